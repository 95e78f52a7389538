"""One reader a format; of settings it also knows where each value stands in the file."""
