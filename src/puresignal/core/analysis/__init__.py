"""Figures about a take, and the arrays that the views draw."""
