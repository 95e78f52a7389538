"""From records to what people read."""
