"""From a document to a compiled pipeline."""
