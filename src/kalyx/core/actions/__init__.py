"""Actions: everything that changes something. Each is planned first, and carried out through a Writer or a Runner."""
