"""Deeds: whatever changes something, each planned first, and carried out through the Change door."""
