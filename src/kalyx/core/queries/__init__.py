"""Questions: one module answers each, from the user's word to the answer. Nothing is changed here."""
