"""Analyses: what a channel holds, how two pictures differ."""
