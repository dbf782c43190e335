"""Documents as lines, one for each value with its place, and documents made of such lines again."""
