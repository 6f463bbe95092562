"""The environment an engine is started with: what programs and their numerics libraries need, and nobody's keys."""

from __future__ import annotations

from collections.abc import Collection, Mapping

NAMES = frozenset(
    {
        "PATH",
        "HOME",
        "USER",
        "LOGNAME",
        "LANG",
        "LANGUAGE",
        "TZ",
        "TERM",
        "TMPDIR",
        "TEMP",
        "TMP",
        "LD_LIBRARY_PATH",
        "LD_PRELOAD",
        "DYLD_LIBRARY_PATH",
        "DYLD_FALLBACK_LIBRARY_PATH",
        "VIRTUAL_ENV",
        "XDG_CACHE_HOME",
        "XDG_RUNTIME_DIR",
        "SYSTEMROOT",
        "SYSTEMDRIVE",
        "WINDIR",
        "COMSPEC",
        "PATHEXT",
        "APPDATA",
        "LOCALAPPDATA",
        "PROGRAMDATA",
        "USERPROFILE",
        "NUMBER_OF_PROCESSORS",
        "PROCESSOR_ARCHITECTURE",
    }
)
"""Of the system: where programs, libraries, caches and temporary files are."""
BEGINNINGS = (
    "LC_",
    "PYTHON",
    "MALLOC_",
    "MIMALLOC_",
    "GLIBC_",
    "OMP_",
    "GOMP_",
    "KMP_",
    "MKL_",
    "OPENBLAS_",
    "BLIS_",
    "VECLIB_",
    "RAYON_",
    "RUST_",
    "TBB_",
    "GGML_",
    "CUDA_",
    "NVIDIA_",
    "NCCL_",
    "CUBLAS_",
    "HIP_",
    "HSA_",
    "ROC",
    "AMD_",
    "GPU_",
    "ONEAPI_",
    "SYCL_",
    "ZE_",
    "ZES_",
    "INTEL_",
    "OPENVINO_",
    "OV_",
    "VK_",
    "VULKAN_",
    "MESA_",
    "METAL_",
    "MTL_",
)
"""Of allocators, numerics libraries and device drivers."""
SECRET_ENDINGS = ("KEY", "TOKEN", "SECRET", "PASSWORD", "PASSWD", "CREDENTIALS")
"""A variable of such a name never goes along by itself, whatever it begins with."""


def inherited(environment: Mapping[str, str], further: Collection[str] = ()) -> dict[str, str]:
    """What an engine inherits of the tool's environment.

    Args:
        environment: The tool's.
        further: Names its recipe asks for.
    """
    return {name: value for name, value in environment.items() if name in further or _is_plain(name.upper())}


def _is_plain(name: str) -> bool:
    return (name in NAMES or name.startswith(BEGINNINGS)) and not name.endswith(SECRET_ENDINGS)
