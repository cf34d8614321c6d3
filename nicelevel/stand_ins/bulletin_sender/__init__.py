"""A stand-in for whoever sends bulletins: a file grows in a folder as over a slow line, with faults on request."""
