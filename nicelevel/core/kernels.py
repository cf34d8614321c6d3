"""How numba is used everywhere: compiled once, at set-up, and loaded afterwards without loading numba.

Loading numba takes longer than measuring a song. So a kernel is compiled to object code that is kept beside its
module; a later run links that with LLVM (through llvmlite, numba's own binding) and calls it through ctypes, which
lets go of the interpreter's lock. Where no object code fits (a changed kernel, another processor), numba is loaded
and compiles it.

Kernels only compute: the public function that calls one has checked and allocated everything, and holds the arrays.
They take arrays and numbers, write into arrays, return a number or nothing, and raise nothing.
"""

import ctypes
import hashlib
import json
import logging
import math
import os
import threading
from collections.abc import Callable
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

import llvmlite
import llvmlite.binding as llvm
import numpy as np
from numpy.typing import NDArray

Function = Callable[..., Any]
Floats = NDArray[np.floating[Any]]
Integers = NDArray[np.signedinteger[Any]]

SUFFIX = ".kernel"
"""Of the files that hold object code, in the `__pycache__` beside each module."""

_INNER_CHANGES = (AttributeError, ImportError, NotImplementedError, TypeError)
"""How it shows that an inner part of numba or llvmlite is not what it was."""

logger = logging.getLogger("nicelevel.core")

_loading = threading.RLock()
_COMPILER = Path(__file__).with_name("compiling.py")


class Kernel:
    """A numeric function as machine code, one for each combination of argument types it is called with."""

    def __init__(self, function: Function, reorders: bool, parts: dict[str, "Kernel"] | None = None) -> None:
        self.function = function
        self.reorders = reorders
        self.parts = parts or {}
        self._compiled: dict[tuple[str, ...], Function] = {}

    def __call__(self, *arguments: Any) -> Any:
        types = tuple(map(_type_of, arguments))
        return (self._compiled.get(types) or self._load(types))(*arguments)

    def using(self, **parts: "Kernel") -> "Kernel":
        """The same function with kernels for names that it, or what it calls, leaves open.

        Always the same kernel for the same parts: what is linked once stays for as long as the program runs.
        """
        return _using(self, tuple(sorted(parts.items())))

    def called(self) -> dict[str, "Kernel"]:
        """The kernels that this one calls, by the names it has for them."""
        names = self.function.__globals__ | self.parts
        called = {name: names.get(name) for name in self.function.__code__.co_names}
        return {name: each.using(**self.parts) for name, each in called.items() if isinstance(each, Kernel)}

    def _described(self) -> str:
        """What it computes, as far as its files do not say it."""
        parts = (f"{name}={part._described()}" for name, part in sorted(self.parts.items()))
        return f"{self.function.__qualname__}:{self.reorders}({','.join(parts)})"

    def _written_in(self) -> set[Path]:
        """The files that its code comes from."""
        files = {Path(self.function.__code__.co_filename)}
        return files.union(*(each._written_in() for each in self.called().values()))

    def _load(self, types: tuple[str, ...]) -> Function:
        with _loading:
            try:
                self._compiled[types] = _linked(self._object_code(types), types)
            except _INNER_CHANGES as error:
                # Only the public face of numba is promised to stay: it is slower to start, and computes the same.
                logger.warning("%s is compiled in the plain way: %r", self.function.__name__, error)
                from .compiling import plainly_compiled

                self._compiled[types] = plainly_compiled(self)
            return self._compiled[types]

    def _object_code(self, types: tuple[str, ...]) -> bytes:
        """What was stored, with its description on the first line; compiled now where nothing was."""
        name = self._name(types)
        beside, own = Path(self.function.__code__.co_filename).parent / "__pycache__", own_cache()
        folders = [beside, own] if own else [beside]
        for folder in folders:
            with suppress(OSError):
                return (folder / name).read_bytes()
        from .compiling import compiled

        symbol, returned, code = compiled(self, types)
        stored = json.dumps({"symbol": symbol, "returns": returned}).encode() + b"\n" + code
        for folder in folders:
            # The package may lie where nobody may write: then it is compiled once for its user.
            with suppress(OSError):
                _keep(folder / name, stored)
                break
        return stored

    def _name(self, types: tuple[str, ...]) -> str:
        """What the object code is stored under: all that it depends on."""
        files = (_digest(file) for file in sorted({*self._written_in(), _COMPILER}))
        text = "|".join((*_processor(), *files, self._described(), *types))
        return f"{self.function.__name__}.{hashlib.sha256(text.encode()).hexdigest()[:24]}{SUFFIX}"


@cache
def _using(kernel: Kernel, parts: tuple[tuple[str, Kernel], ...]) -> Kernel:
    return Kernel(kernel.function, kernel.reorders, kernel.parts | dict(parts))


def kernel(function: Function) -> Kernel:
    """A numeric function as a kernel, in strict floating point: it equals its plain twin to the last digit."""
    return Kernel(function, reorders=False)


def vectorised(function: Function) -> Kernel:
    """Like `kernel`, for sums and extremes whose order does not matter: the processor takes several at once.

    Only for samples that are known to be finite. A sum differs from the plain one in its last digits alone.
    """
    return Kernel(function, reorders=True)


ALIGNMENT_BYTES = 64


def aligned_zeros(shape: tuple[int, ...], dtype: Any) -> NDArray[Any]:
    """Zeros that begin where a register's width and a cache line do."""
    size_bytes = math.prod(shape) * np.dtype(dtype).itemsize
    memory = np.zeros(size_bytes + ALIGNMENT_BYTES, np.uint8)
    start = -memory.ctypes.data % ALIGNMENT_BYTES
    zeros: NDArray[Any] = memory[start : start + size_bytes].view(dtype).reshape(shape)
    return zeros


_RETURNED = {"float64": ctypes.c_double, "int64": ctypes.c_int64, "none": ctypes.c_void_p}
_SCALARS = {"float64": ctypes.c_double, "int64": ctypes.c_int64, "uint64": ctypes.c_uint64, "bool": ctypes.c_uint8}
_SCALAR_OF = {float: "float64", int: "int64", bool: "bool", np.float64: "float64", np.uint64: "uint64"}


def _type_of(argument: Any) -> str:
    """A type as text: of an array its element, its number of axes and how it lies in memory."""
    if isinstance(argument, np.ndarray):
        order = "C" if argument.flags.c_contiguous else "A"
        return f"{argument.dtype.str[1:]}:{argument.ndim}:{order}:{'' if argument.flags.aligned else 'unaligned'}"
    return _SCALAR_OF[type(argument)]


def own_cache() -> Path | None:
    """The folder of a user's caches (XDG Base Directory Specification), for what may not lie beside the modules; None
    for a user without a home.
    """
    told = os.environ.get("XDG_CACHE_HOME") or os.path.expanduser("~/.cache")
    return None if told.startswith("~") else Path(told) / "nice-level" / "kernels"


def _keep(stored: Path, content: bytes) -> None:
    """Store object code under its name, whole or not at all. Raises OSError."""
    stored.parent.mkdir(exist_ok=True, parents=True)
    part = stored.with_suffix(f".{threading.get_native_id()}.part")
    part.write_bytes(content)
    part.replace(stored)


def _linked(stored: bytes, types: tuple[str, ...]) -> Function:
    """A callable for stored object code.

    numba's convention: where the result goes, where an error goes, then each argument, an array as (owner, parent,
    elements, bytes of one, address, shape, strides); a status comes back.
    """
    described, _, code = stored.partition(b"\n")
    description = json.loads(described)
    signature: list[Any] = [ctypes.c_void_p, ctypes.c_void_p]
    for each in types:
        axes = int(each.split(":")[1]) if ":" in each else 0
        array = [ctypes.c_void_p] * 2 + [ctypes.c_int64] * 2 + [ctypes.c_void_p] + [ctypes.c_int64] * (2 * axes)
        signature += array if axes else [_SCALARS[each]]
    address = _link(code, description["symbol"])
    function = ctypes.CFUNCTYPE(ctypes.c_int32, *signature)(address)
    result_type: Any = _RETURNED[description["returns"]]

    def call(*arguments: Any) -> Any:
        result, error = result_type(), ctypes.c_void_p()
        flat: list[Any] = []
        for argument in arguments:
            if isinstance(argument, np.ndarray):
                flat += (None, None, argument.size, argument.itemsize, argument.ctypes.data)
                flat += (*argument.shape, *argument.strides)
            else:
                flat.append(argument)
        if function(ctypes.addressof(result), ctypes.addressof(error), *flat):
            raise RuntimeError(f"kernel {description['symbol']} failed")
        return result.value

    return call


def _link(code: bytes, symbol: str) -> int:
    library = llvm.JITLibraryBuilder().add_object_img(code).add_current_process().export_symbol(symbol)
    _libraries.append(library.link(_linker(), str(len(_libraries))))
    return int(_libraries[-1][symbol])


_libraries: list[Any] = []
"""Kept for as long as the program runs: the code lives in them."""


@cache
def _linker() -> Any:
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    return llvm.create_lljit_compiler(llvm.Target.from_default_triple().create_target_machine())


@cache
def _processor() -> tuple[str, str, str]:
    return llvmlite.__version__, llvm.get_host_cpu_name(), llvm.get_host_cpu_features().flatten()


@cache
def _digest(module: Path) -> str:
    return hashlib.sha256(module.read_bytes()).hexdigest()
