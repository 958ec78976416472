"""Holds what happened against what was expected."""
