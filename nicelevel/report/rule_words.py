"""Rules for what comes into a job, as sentences."""

MEND = "what mends its notes"

KINDS: dict[str | None, str] = {None: "of any kind", "lossless": "coded without loss", "coded": "coded with loss"}
CHANNELS: dict[str | None, str] = {
    None: "in any channels",
    "one": "in one channel",
    "two": "in two channels",
    "more": "in more than two channels",
}


def rule_line(channels: str | None, kind: str | None, name_has: str | None, recipe: str) -> str:
    """Conditions are None for any; recipe: its name."""
    conditions = [CHANNELS[channels]] if channels else []
    conditions += [KINDS[kind]] if kind else []
    conditions += [f"whose name has “{name_has}”"] if name_has else []
    return f"{' '.join(('A file', *conditions)) if conditions else 'Every file'} is prepared by {recipe}."
