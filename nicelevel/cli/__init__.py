"""The command `nice-level`: one subcommand per stage."""
