"""What is worked out for all who ask, once for each plan, revision and day; and who is told of changes."""
