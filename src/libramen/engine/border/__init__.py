"""What the two planes share: their words, and no code."""
