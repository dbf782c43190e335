"""XPath 1.0: location paths to records, expressions on documents, and help where nothing is found."""
