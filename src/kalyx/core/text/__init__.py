"""Rules for texts, each in one place: quoting, names, versions, secrets. Shells themselves test the quoting."""
