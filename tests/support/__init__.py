"""What tests use in place of the machine."""
