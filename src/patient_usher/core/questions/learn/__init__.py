"""What stands in front of a service's handlers, learned from what it answers."""
