"""What came of a replay: for programs and for people."""
