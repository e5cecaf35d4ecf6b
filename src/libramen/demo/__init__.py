"""The shipped study, Saltmarsh Ferries, and the code that makes its log. This file imports nothing."""
