"""Nice Level: from a finished mix to a proved deliverable."""

__version__ = "0.1.0"
