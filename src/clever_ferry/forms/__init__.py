"""Well-known forms of bytes: recognised by how they begin, opened and verified to their end."""
