"""The questions that people ask of a pipeline, a module or a folder each, with one result type each."""
