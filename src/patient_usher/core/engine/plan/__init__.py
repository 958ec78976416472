"""Plans, and the two flows that walk them."""
