"""What runs: the world, its clock, the walk of an exchange."""
