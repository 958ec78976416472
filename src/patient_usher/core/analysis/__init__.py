"""What can be said of a pipeline without sending anything, and what differs between replays."""
