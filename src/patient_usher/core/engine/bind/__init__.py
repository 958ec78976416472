"""A trace, made ready for a pipeline."""
