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
import math
import threading
from collections.abc import Callable
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
            stored = self._stored(types)
            if not stored.exists():
                from .compiling import compiled

                _keep(stored, *compiled(self, types))
            self._compiled[types] = _linked(stored.read_bytes(), types)
            return self._compiled[types]

    def _stored(self, types: tuple[str, ...]) -> Path:
        """Where the object code lies: named by all that it depends on."""
        module = Path(self.function.__code__.co_filename)
        files = (_digest(file) for file in sorted({*self._written_in(), _COMPILER}))
        text = "|".join((*_processor(), *files, self._described(), *types))
        name = f"{self.function.__name__}.{hashlib.sha256(text.encode()).hexdigest()[:24]}{SUFFIX}"
        return module.parent / "__pycache__" / name


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


def _keep(stored: Path, symbol: str, returned: str, code: bytes) -> None:
    """Store object code under its name, whole or not at all."""
    stored.parent.mkdir(exist_ok=True)
    part = stored.with_suffix(f".{threading.get_native_id()}.part")
    part.write_bytes(json.dumps({"symbol": symbol, "returns": returned}).encode() + b"\n" + code)
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
    engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), _target_machine())
    engine.add_object_file(llvm.ObjectFileRef.from_data(code))
    engine.finalize_object()
    _engines.append(engine)
    return int(engine.get_function_address(symbol))


_engines: list[Any] = []
"""Kept for as long as the program runs: the code lives in them."""


@cache
def _target_machine() -> Any:
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    return llvm.Target.from_default_triple().create_target_machine()


@cache
def _processor() -> tuple[str, str, str]:
    return llvmlite.__version__, llvm.get_host_cpu_name(), llvm.get_host_cpu_features().flatten()


@cache
def _digest(module: Path) -> str:
    return hashlib.sha256(module.read_bytes()).hexdigest()
