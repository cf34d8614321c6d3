"""The reference library on one file, with loudness, range and true peak: a process of its own for the bench."""

import ctypes
import sys

import numpy as np
import soundfile

from tests.reference import open_meter

BLOCK_FRAMES = 4_800


def main(path: str) -> None:
    with soundfile.SoundFile(path) as file:
        library, state = open_meter(file.channels, file.samplerate)
        for block in file.blocks(BLOCK_FRAMES, dtype="float64", always_2d=True):
            data = np.ascontiguousarray(block).ctypes.data_as(ctypes.POINTER(ctypes.c_double))
            library.ebur128_add_frames_double(state, data, ctypes.c_size_t(len(block)))


if __name__ == "__main__":
    main(sys.argv[1])
