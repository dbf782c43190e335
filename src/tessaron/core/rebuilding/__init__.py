"""Making documents again from the rows of tables, and what tables keep so that nothing is lost."""
