"""Changes of a pipeline, near ones first, and the search for those with which it answers as a service does."""
