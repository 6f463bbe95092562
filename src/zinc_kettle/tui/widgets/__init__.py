"""Thin widgets around the drawings."""
