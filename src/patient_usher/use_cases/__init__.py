"""One module a question: typed in and out, no arguments and no printing."""
