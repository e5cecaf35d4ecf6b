"""Figures. This file imports nothing: Matplotlib is slow to load."""
