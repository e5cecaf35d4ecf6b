"""What is asked of a study by many replays."""
