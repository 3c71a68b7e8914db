"""What readings say, against a target."""
