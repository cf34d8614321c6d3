"""A stand-in for who receives a package: it takes one over HTTP, checks every file against its own copies of the
specs, and answers accepted or rejected with reasons."""
