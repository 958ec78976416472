"""Requests that may be sent to a pipeline, and what runs them."""
