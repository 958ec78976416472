"""What usher init writes."""
