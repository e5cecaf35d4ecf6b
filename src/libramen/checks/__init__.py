"""What can be said of a study before anything is replayed."""
