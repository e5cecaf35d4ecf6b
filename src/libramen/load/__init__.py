"""From `[trace]` of a study to a trace whose work is known."""
