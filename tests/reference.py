"""libebur128, the reference library, through ctypes: for tests alone."""

import ctypes
import itertools
from dataclasses import dataclass

import numpy as np

_ALL_MODES, _LOUDNESS_ALONE = 0x3F, 0x5
_CHANNELS = {"unused": 0, "L": 1, "R": 2, "C": 3, "Ls": 4, "Rs": 5}


class _State(ctypes.Structure):
    _fields_ = (
        ("mode", ctypes.c_int),
        ("channels", ctypes.c_uint),
        ("samplerate", ctypes.c_ulong),
        ("d", ctypes.c_void_p),
    )


@dataclass(frozen=True)
class ReferenceReading:
    integrated_lufs: float
    loudness_range_lu: float
    true_peak_dbtp: float
    max_momentary_lufs: float
    max_short_term_lufs: float


def open_meter(channels: int, rate: int) -> tuple[ctypes.CDLL, object]:
    """The library and a meter of it that measures everything it can."""
    library = _library()
    return library, library.ebur128_init(channels, rate, _ALL_MODES)


def _library() -> ctypes.CDLL:
    library = ctypes.CDLL("libebur128.so.1")
    library.ebur128_init.restype = ctypes.POINTER(_State)
    library.ebur128_init.argtypes = (ctypes.c_uint, ctypes.c_ulong, ctypes.c_int)
    return library


def read(signal: np.ndarray, rate: int, positions: list[str] | None = None) -> ReferenceReading:
    """Measure frames × channels; maxima are asked for every 10 ms."""
    channels = signal.shape[1]
    library, state = open_meter(channels, rate)
    for number, position in enumerate(positions or []):
        library.ebur128_set_channel(state, ctypes.c_uint(number), _CHANNELS[position])
    data = np.ascontiguousarray(signal, np.float64)
    momentary, short_term = _fed(library, state, data, rate)
    result = ReferenceReading(
        _ask(library.ebur128_loudness_global, state),
        _ask(library.ebur128_loudness_range, state),
        20 * np.log10(max(_ask(library.ebur128_true_peak, state, n) for n in range(channels)) or 1e-30),
        momentary,
        short_term,
    )
    library.ebur128_destroy(ctypes.byref(state))
    return result


def integrated_lufs(signal: np.ndarray, rate: int) -> float:
    """Loudness alone of frames × channels, in a hundredth of the time."""
    library = _library()
    state = library.ebur128_init(signal.shape[1], rate, _LOUDNESS_ALONE)
    data = np.ascontiguousarray(signal, np.float64)
    pointer = data.ctypes.data_as(ctypes.POINTER(ctypes.c_double))
    assert library.ebur128_add_frames_double(state, pointer, ctypes.c_size_t(len(data))) == 0
    found = _ask(library.ebur128_loudness_global, state)
    library.ebur128_destroy(ctypes.byref(state))
    return found


def _fed(library: ctypes.CDLL, state: object, data: np.ndarray, rate: int) -> tuple[float, float]:
    momentary = short_term = -np.inf
    edges = np.arange(0, len(data) * 100 // rate + 1) * rate // 100
    for start, end in itertools.pairwise(edges):
        part = data[start:end]
        pointer = part.ctypes.data_as(ctypes.POINTER(ctypes.c_double))
        assert library.ebur128_add_frames_double(state, pointer, ctypes.c_size_t(len(part))) == 0
        if end >= rate * 2 // 5:
            momentary = max(momentary, _ask(library.ebur128_loudness_momentary, state))
        if end >= 3 * rate:
            short_term = max(short_term, _ask(library.ebur128_loudness_shortterm, state))
    rest = data[edges[-1] :]
    if len(rest):
        library.ebur128_add_frames_double(
            state, rest.ctypes.data_as(ctypes.POINTER(ctypes.c_double)), ctypes.c_size_t(len(rest))
        )
    return momentary, short_term


def _ask(function: object, state: object, *numbers: int) -> float:
    value = ctypes.c_double()
    assert function(state, *[ctypes.c_uint(number) for number in numbers], ctypes.byref(value)) == 0
    return value.value
