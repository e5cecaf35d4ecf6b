"""What is said of a result: sections made once from figures, which terminals, notebooks and files only render."""
