"""Patient Usher: a laboratory for HTTP middleware."""

__version__ = "0.1.0"
