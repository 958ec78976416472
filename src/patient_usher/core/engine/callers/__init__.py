"""Who sends: a script, or a browser; and why a browser blocked a call."""
