"""What the standard library and NumPy raise on damaged files."""

from __future__ import annotations

import lzma
import struct
import zipfile
import zlib

DAMAGE = (
    zipfile.BadZipFile, zlib.error, lzma.LZMAError, struct.error, KeyError, ValueError, TypeError, OSError, EOFError,
    AttributeError, IndexError, NotImplementedError, OverflowError, RuntimeError, MemoryError, SyntaxError,
)  # fmt: skip
