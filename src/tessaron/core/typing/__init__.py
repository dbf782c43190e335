"""Types of columns: what values could be, and the narrowest type that gives all of them back."""
