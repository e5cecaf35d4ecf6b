"""Figures of the page that zoom and say what is under the mouse."""
