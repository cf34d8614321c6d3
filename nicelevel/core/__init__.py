"""The computation of Nice Level. See README.md in this folder for its rule and its reading order."""
