"""What reading a damaged ZIP raises: Python's ``zipfile`` lets through what its decompressors raise."""

import lzma
import zipfile
import zlib

#: Damaged, cut off, without the entry that is asked for, encrypted, or packed in a way that is not known.
UNREADABLE = (
    zipfile.BadZipFile,
    zlib.error,
    lzma.LZMAError,
    EOFError,
    KeyError,
    NotImplementedError,
    RuntimeError,
)
