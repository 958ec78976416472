"""Walks requests through a pipeline on a virtual clock."""
