"""The spec that the benches render for: a target, a ceiling, a limiter."""

_TOML = """[spec]
name = "Bench"
[loudness]
target = {target}
tolerance = 0.5
[limits]
max_true_peak_dbtp = -1.0
[method]
allow = "limiter"
[[formats]]
{format}
"""


def limited_spec(wanted: str, target_lufs: float = -16.0) -> str:
    """TOML of a spec with one format, given as the lines of its table."""
    return _TOML.format(target=target_lufs, format=wanted)
