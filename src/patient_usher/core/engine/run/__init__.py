"""What runs: the run state, its clock, the walk of an exchange."""
