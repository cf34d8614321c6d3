"""Rules for what comes into a job, as sentences."""

NO_RECIPE = "no recipe"

KINDS: dict[str | None, str] = {None: "of any kind", "lossless": "coded without loss", "coded": "coded with loss"}
CHANNELS: dict[str | None, str] = {
    None: "in any channels",
    "one": "in one channel",
    "two": "in two channels",
    "more": "in more than two channels",
}


def rule_line(
    channels: str | None, kind: str | None, name_has: str | None, recipe: str | None, mends: bool, renders: bool
) -> str:
    """Conditions are None for any; recipe: its name, None for none; mends: what is noted, first; renders: at once."""
    conditions = [CHANNELS[channels]] if channels else []
    conditions += [KINDS[kind]] if kind else []
    conditions += [f"whose name has “{name_has}”"] if name_has else []
    what = " ".join(("A file", *conditions)) if conditions else "Every file"
    done = ["mended where that is noted"] if mends else []
    done += [f"prepared by {recipe}"] if recipe else []
    done += ["rendered"] if renders else []
    return f"{what} is {', then '.join(done) or 'left as it came'}."
