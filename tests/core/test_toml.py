"""Texts that are meant to harm: refused in a line, before the parser takes time or memory with the square of them."""

import os
import subprocess
import sys

import pytest

from nicelevel.core.errors import SpecError
from nicelevel.core.specs import load_spec, parse_spec
from nicelevel.core.specs.library import shipped_toml
from nicelevel.core.toml import LARGEST_TOML_BYTES, parse_toml

HARMFUL = {
    "a key of many parts": ("a." * 45_000 + "b=1", "deeper than the 8 levels"),
    "the same with quotes": ('"a".' * 20_000 + "b=1", "deeper than the 8 levels"),
    "the same with spaces": ("a . " * 20_000 + "b=1", "deeper than the 8 levels"),
    "a table of many parts": ("[" + "a." * 45_000 + "b]", "deeper than the 8 levels"),
    "deep brackets": ("a = " + "[" * 50_000, "deeper than the 8 levels"),
    "deep tables": ("a = " + "{b=" * 20_000, "deeper than the 8 levels"),
    "a long number": ("a = " + "9" * 90_000, "more than the 64 signs"),
    "a long hexadecimal number": ("a = 0x" + "f" * 5_000, "more than the 64 signs"),
    "a long text": ("#" + "x" * LARGEST_TOML_BYTES, "longer than the 100 kB"),
    "a string without end": ("a = '" + "x" * 90_000, "not readable as TOML"),
    "quotes": ('"' * 90_000, "not readable as TOML"),
}


@pytest.mark.parametrize("name", HARMFUL)
def test_what_would_harm_is_refused_in_a_line(name):
    text, sentence = HARMFUL[name]
    with pytest.raises(SpecError) as refused:
        parse_spec(text, "harm")
    assert sentence in refused.value.message
    assert "\n" not in refused.value.message
    assert len(refused.value.message) < 400


def test_the_interpreter_stays_small(tmp_path):
    """What was 8 GB and 47 s: in a process that has 600 MB of address space, and a clock that kills it."""
    (tmp_path / "harm.toml").write_text("a." * 45_000 + "b=1")
    code = (
        "import resource; resource.setrlimit(resource.RLIMIT_AS, (600 << 20,) * 2)\n"
        "from nicelevel.core.specs import load_spec; import sys\n"
        "try: load_spec(sys.argv[1])\n"
        "except Exception as error: print(type(error).__name__)"
    )
    command = [sys.executable, "-c", code, str(tmp_path / "harm.toml")]
    done = subprocess.run(command, capture_output=True, text=True, timeout=60)
    assert done.stdout == "SpecError\n", done.stderr


@pytest.mark.parametrize("text", ["a = '[[[[[[[[[[[['", "# a.b.c.d.e.f.g.h.i.j.k", 'a = "x.x.x.x.x.x.x.x.x.x.x"'])
def test_strings_and_comments_may_say_anything(text):
    parse_toml(text, "fine")


def test_a_byte_order_mark_is_passed_over(tmp_path):
    path = tmp_path / "marked.toml"
    path.write_bytes(b"\xef\xbb\xbf" + shipped_toml("podcast").encode())
    assert load_spec(str(path)).spec.name == load_spec("podcast").spec.name


def test_a_pipe_is_no_spec_and_nobody_waits_for_it(tmp_path):
    os.mkfifo(tmp_path / "pipe.toml")
    with pytest.raises(SpecError, match="is no file"):
        load_spec(str(tmp_path / "pipe.toml"))
