"""The model of HTTP middleware: no input or output, no wall clock, no interface code."""
