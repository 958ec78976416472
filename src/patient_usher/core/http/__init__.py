"""Facts of HTTP as pure functions, each beside the section of the standard that it comes from."""
