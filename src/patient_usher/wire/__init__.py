"""What is real: applications in this process, the wall clock."""
