"""Many replays: threads, processes and clusters, through one interface. This file imports nothing."""
