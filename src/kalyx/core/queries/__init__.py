"""Questions: each answered by one module, from the word to the answer; nothing is changed here."""
