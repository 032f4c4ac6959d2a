"""What the column map says of the rows of a build, topic by topic."""
