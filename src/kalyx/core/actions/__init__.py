"""Actions: whatever changes something, each planned first, and carried out by a Writer or a Runner."""
