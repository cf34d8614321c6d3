"""Rules for what comes into a job, as sentences."""

MEND = "what mends its notes"

KINDS: dict[str | None, str] = {None: "of any kind", "lossless": "coded without loss", "coded": "coded with loss"}
CHANNELS: dict[str | None, str] = {
    None: "in any channels",
    "one": "in one channel",
    "two": "in two channels",
    "more": "in more than two channels",
}


def rule_line(channels: str | None, kind: str | None, name_has: str | None, recipe: str, renders: bool) -> str:
    """Conditions are None for any; recipe: its name; renders: at once."""
    conditions = [CHANNELS[channels]] if channels else []
    conditions += [KINDS[kind]] if kind else []
    conditions += [f"whose name has “{name_has}”"] if name_has else []
    what = " ".join(("A file", *conditions)) if conditions else "Every file"
    return f"{what} is prepared by {recipe}{', then rendered' if renders else ''}."
