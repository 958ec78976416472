"""What is wrong with a pipeline's order and options: rules, the search, mends, and whether these do harm."""
