"""What a fit is told by: accuracy and effects, in units of the response."""
