"""A stand-in for a broadcaster's desk that takes contributions: it looks at the audio, not at what is said of it."""
