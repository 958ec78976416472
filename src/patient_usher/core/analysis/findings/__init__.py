"""The search for what is wrong with a pipeline."""
