"""XML before the kernel: tags, namespaces, where the records stand, and cutting documents into chunks."""
