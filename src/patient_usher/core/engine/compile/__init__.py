"""From a document to a blueprint."""
