"""Compiling a kernel to object code with numba. Loaded only where none is stored: see `kernels`."""

import os
import types as python
from typing import Any

import llvmlite.binding as llvm

# By default a processor's 512-bit registers are used by half, for the sake of code that needs few; kernels need all.
os.environ.setdefault("NUMBA_CPU_FEATURES", llvm.get_host_cpu_features().flatten() + ",-prefer-256-bit")

import numba
from numba.core import compiler, cpu, registry, types

from .kernels import Kernel

_ELEMENTS: dict[str, Any] = {
    "f4": types.float32,
    "f8": types.float64,
    "i2": types.int16,
    "i4": types.int32,
    "i8": types.int64,
    "u1": types.uint8,
    "u2": types.uint16,
}
_SCALARS = {"float64": types.float64, "int64": types.int64, "uint64": types.uint64, "bool": types.boolean}


def compiled(kernel: Kernel, argument_types: tuple[str, ...]) -> tuple[str, str, bytes]:
    """Symbol, type of the result and object code of a kernel for arguments of these types."""
    target = registry.cpu_target
    target.typing_context.refresh()
    target.target_context.refresh()
    result = compiler.compile_extra(
        target.typing_context,
        target.target_context,
        _with_numba(kernel),
        tuple(map(_numba_type, argument_types)),
        None,
        _flags(kernel.reorders),
        {},
    )
    return result.fndesc.llvm_func_name, str(result.signature.return_type), result.library._get_compiled_object()


def plainly_compiled(kernel: Kernel) -> Any:
    """The same by numba's public face alone, compiled anew by every process."""
    return numba.njit(error_model="numpy", fastmath=kernel.reorders, nogil=True)(_with_numba(kernel))


def _flags(reorders: bool) -> compiler.Flags:
    """Neither wrappers for the interpreter nor counted references: the code stands alone."""
    flags = compiler.Flags()
    flags.no_cpython_wrapper = flags.no_cfunc_wrapper = True
    flags.nrt = flags.enable_pyobject = False
    flags.error_model = "numpy"
    flags.fastmath = cpu.FastMathOptions(reorders)
    return flags


def _with_numba(kernel: Kernel) -> python.FunctionType:
    """The plain function, with every kernel that it calls put into numba's hands."""
    function = kernel.function
    names = dict(function.__globals__)
    for name, part in kernel.called().items():
        options = {"error_model": "numpy", "fastmath": part.reorders, "no_cpython_wrapper": True, "_nrt": False}
        names[name] = numba.njit(**options)(_with_numba(part))
    return python.FunctionType(function.__code__, names, function.__name__, function.__defaults__)


def _numba_type(described: str) -> Any:
    if ":" not in described:
        return _SCALARS[described]
    element, axes, order, alignment = described.split(":")
    array: Any = types.Array
    return array(_ELEMENTS[element], int(axes), order, aligned=not alignment)
