"""Kalyx attacked: what may not be read, what a folder brings, names as commands, secrets planted."""
