"""The container of a project: a zip whose members are made beside one another and kept while their arrays live.

Writing follows PKWARE's APPNOTE 6.3.10 (4.3.7 local headers, 4.3.12 central directory, 4.3.16 end record): the standard
library cannot take data that is packed already. Reading uses the standard library and bounds everything beforehand.
"""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.store import STORE
from jacket.errors import FormatError

KINDS = "fiub"
"""Kinds of arrays that may stand in a project: numbers and truth values, no objects."""
_MOST = 0xFFFFFFFE
_PIECE = 1 << 20
_DENSE = 260
"""At most so many bytes out of one packed byte for the arrays that say how large a mesh is; only a bomb has more."""
_MOST_BYTES = 8_000_000_000


@dataclass(frozen=True)
class Packed:
    """A deflated member: its bytes, the size and checksum (CRC-32) of what it holds."""

    data: bytes
    size: int
    crc: int


def packed(data: bytes) -> Packed:
    """Bytes as a member, deflated quickly."""
    return _deflated([data])


def _deflated(pieces: Iterable[bytes | memoryview]) -> Packed:
    deflate, size, crc, out = zlib.compressobj(1, zlib.DEFLATED, -15), 0, 0, []
    for piece in pieces:
        out.append(deflate.compress(piece))
        size, crc = size + len(piece), zlib.crc32(piece, crc)
    out.append(deflate.flush())
    return Packed(b"".join(out), size, crc)


def packed_array(array: NDArray[Any]) -> Packed:
    """An array as a .npy member; kept while the array lives, so that an unchanged mesh is not packed again."""
    return STORE.get((array,), "packed", lambda: _npy(array))


def _npy(array: NDArray[Any]) -> Packed:
    array = np.ascontiguousarray(array)
    head = io.BytesIO()
    np.lib.format.write_array_header_1_0(head, np.lib.format.header_data_from_array_1_0(array))
    return _deflated([head.getvalue(), *_pieces(array)])


def _pieces(array: NDArray[Any]) -> Iterator[memoryview]:
    """The bytes of an array in pieces, so that none keeps other threads waiting for long."""
    flat = array.reshape(-1).view(np.uint8) if array.size else np.zeros(0, np.uint8)
    for k in range(0, len(flat), _PIECE):
        yield flat[k : k + _PIECE].data


def zip_pieces(members: Iterable[tuple[str, Packed]]) -> list[bytes]:
    """Members as the pieces of a zip file. Raises FormatError where it would be over 4 GB."""
    out, directory, count, at = list[bytes](), io.BytesIO(), 0, 0
    for name, member in members:
        label = name.encode()
        if max(at, member.size, len(member.data)) > _MOST or count == 0xFFFE:
            raise FormatError("The project is too large for one file; take sources off the bench or reduce them.")
        # Version 2.0, names in UTF-8, deflated, time of 1 January 1980: the same work gives the same bytes.
        common = struct.pack(
            "<HHHHHIIIHH", 20, 0x800, 8, 0, 33, member.crc, len(member.data), member.size, len(label), 0
        )
        out += [struct.pack("<I", 0x04034B50) + common + label, member.data]
        directory.write(struct.pack("<IH", 0x02014B50, 20) + common)
        directory.write(struct.pack("<HHHII", 0, 0, 0, 0o600 << 16, at) + label)
        count += 1
        at += 4 + len(common) + len(label) + len(member.data)
    start, table = at, directory.getvalue()
    if start + len(table) > _MOST:
        raise FormatError("The project is too large for one file; take sources off the bench or reduce them.")
    out += [table, struct.pack("<IHHHHIIH", 0x06054B50, 0, 0, count, count, len(table), start, 0)]
    return out


TABLE = 24 << 20
"""Bytes that a table of a project has at most; a thousand guides of a hundred places each are a tenth of it."""

PICTURE = 512 << 20


class Reader:
    """Members of a project's zip, each looked at before it is unpacked."""

    def __init__(self, archive: zipfile.ZipFile, name: str) -> None:
        self.archive, self.name = archive, name
        self.infos = {info.filename: info for info in archive.infolist()}
        if sum(info.file_size for info in self.infos.values()) > _MOST_BYTES:
            raise FormatError(f"{name} claims to hold more than 8 GB and was not opened.")
        if any(info.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED) for info in self.infos.values()):
            raise FormatError(f"{name} was packed in a way that projects are not; open an earlier copy.")

    def names(self, folder: str) -> list[str]:
        """Names of the members of a folder, without it."""
        return [n[len(folder) + 1 :] for n in self.infos if n.startswith(f"{folder}/")]

    def has(self, member: str) -> bool:
        """Whether there is such a member."""
        return member in self.infos

    def bytes(self, member: str, most: int = TABLE) -> bytes:
        """A member as it is, at most so many bytes."""
        info = self.infos[member]
        if info.file_size > most:
            raise ValueError(f"{member} is larger than anything it could hold")
        data = self.archive.read(info)
        if len(data) != info.file_size:
            raise ValueError(f"{member} is not as long as it says")
        return data

    def rows(self, member: str) -> int:
        """How many rows an array has, by its header."""
        with self.archive.open(self.infos[member]) as stream:
            return int(_header(stream)[0][0])

    def array(self, member: str, rows: int | None = None) -> NDArray[Any]:
        """An array by its member, of `rows` rows where that is known already: what its header says is checked against
        the size of the member before anything is unpacked."""
        info = self.infos[member]
        with self.archive.open(info) as stream:
            shape, kind = _header(stream)
            length = int(np.prod(shape, dtype=np.float64)) * kind.itemsize
            if kind.kind not in KINDS or not 0 <= info.file_size - length <= 4096 or len(shape) > 3:
                raise ValueError(f"{member} is not what its header says")
            if rows is not None and (not shape or shape[0] != rows):
                raise ValueError(f"{member} does not fit its mesh")
            if rows is None and length > 1 << 20 and length > _DENSE * max(info.compress_size, 1):
                raise ValueError(f"{member} would unpack to far more than a mesh can")
        return np.asarray(np.load(io.BytesIO(self.bytes(member, _MOST)), allow_pickle=False))


def _header(stream: Any) -> tuple[tuple[int, ...], np.dtype[Any]]:
    """Shape and kind of the array that a stream begins with (NumPy's format, NEP 1)."""
    version = np.lib.format.read_magic(stream)
    header = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}[version]
    shape, _, kind = header(stream)
    return shape, kind
