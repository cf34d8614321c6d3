"""A programme: some channels of a file that belong together; and how they are told from a map or a count."""

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from ..channels import Layout, layout_from_count
from ..errors import SpecError, UnsupportedError
from ..words import listed

MOST_CHANNELS = 128

_ENTRY = re.compile(r"(\d{1,3})(?:\s*-\s*(\d{1,3}))?(?:\s+(.*))?")

FULL_MIX, STEREO_PAIR = "Full mix", "Stereo"


@dataclass(frozen=True)
class Programme:
    """label: what people call it; channels: of the file, by number from 1, in the order of the layout."""

    label: str
    channels: tuple[int, ...]
    layout: Layout

    @property
    def apart(self) -> tuple["Programme", ...]:
        """The same, each channel by itself, named by its position or its number."""
        if len(self.channels) == 1:
            return (self,)
        named = zip(self.channels, self.layout.positions, strict=True)
        mono = layout_from_count(1)
        return tuple(replace(self, label=f"{self.label} {at or n}", channels=(n,), layout=mono) for n, at in named)


def programmes_of_map(text: str) -> tuple[Programme, ...]:
    """Programmes as they are typed: "1-6 Full mix, 7-8 Stereo". Raises SpecError where that cannot be read."""
    return tuple(_entry(part.strip()) for part in text.split(","))


def _entry(text: str) -> Programme:
    found = _ENTRY.fullmatch(text)
    if not found:
        raise SpecError(f'A map reads "1-6 Full mix,7-8 Stereo"; "{text}" has no channels at its beginning.')
    first, last = int(found[1]), int(found[2] or found[1])
    if not 1 <= first <= last <= MOST_CHANNELS:
        raise SpecError(f"Channels go from 1 to {MOST_CHANNELS}, the lower number first: {text}.")
    channels = tuple(range(first, last + 1))
    label = (found[3] or "").strip() or f"Channel{'s' if last > first else ''} {found[0].strip()}"
    return Programme(label, channels, layout_from_count(len(channels)))


def refuse_channels_past(programmes: Sequence[Programme], count: int) -> None:
    """Raises UnsupportedError where a file has not all channels of its programmes."""
    most = max(max(each.channels) for each in programmes)
    if most > count:
        raise UnsupportedError(f"There is no channel {most}: it has {count}.")


def by_count(layout: Layout) -> tuple[Programme, ...]:
    """All channels as one programme, where their number or their mask says what they are; else each by itself."""
    count = len(layout.positions)
    if layout.name == "unknown" and count > 1:
        return tuple(Programme(f"Channel {n}", (n,), layout_from_count(1)) for n in range(1, count + 1))
    return (Programme(FULL_MIX, tuple(range(1, count + 1)), layout),)


def count_note(layout: Layout) -> str:
    """What is said where nothing but a count or a mask told the programmes."""
    count = len(layout.positions)
    nothing = "Nothing in the file names its programmes"
    if layout.name == "unknown" and count > 1:
        return f"{nothing} or says what its {count} channels are: each is by itself. A map puts them together."
    if count == 8 and layout.assumed:
        return (
            f"{nothing}: its 8 channels were taken for one of 7.1. As 5.1 and stereo they are "
            f'"1-6 {FULL_MIX},7-8 {STEREO_PAIR}" in a map.'
        )
    told = "count" if layout.assumed or count <= 2 else "mask"
    return f"{nothing}: by the {told} of its channels it is one, {layout.name}."


def left_out_note(programmes: Sequence[Programme], count: int) -> str | None:
    """Which channels of a file belong to none of its programmes."""
    used = {number for each in programmes for number in each.channels}
    left = [str(number) for number in range(1, count + 1) if number not in used]
    if not left:
        return None
    return f"Channel{'s' if len(left) > 1 else ''} {listed(left)} belong{'s' if len(left) == 1 else ''} to none."
