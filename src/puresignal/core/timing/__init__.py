"""Beats and tempo."""
