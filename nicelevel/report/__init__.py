"""Core values as JSON, table and drawing: shaped once, for web and command line alike."""
