"""What a pipeline and a trace say, and whether they say it right."""
