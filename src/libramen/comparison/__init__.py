"""Many replays: compare, and check before any replay. This file imports nothing."""
