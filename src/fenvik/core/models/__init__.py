"""What was learned of a display: what its controls do, and where its light stands."""
