"""What a run costs in a month. This file imports nothing."""
