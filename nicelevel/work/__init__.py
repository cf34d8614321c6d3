"""Long work on a queue in PostgreSQL: ids in, one core function, saved in one place on every way out."""
