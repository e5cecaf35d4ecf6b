"""Figures of replays that were made before, in a file of SQLite (standard library).

The key of an entry is the digest of what its replay depends on (`entries.key_of`). Each has a checksum, which is
looked at before it is used. Each is written in a transaction of its own into a write-ahead log, so a process may be
killed at any moment, and several may use one store at a time. What is damaged or of another version is set aside, and a
new store is begun.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
import threading
import time
import weakref
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any, Final, NamedTuple, Self

from libramen.base.errors import LibramenError, OutputError
from libramen.base.files import cache_directory, check_output

SUFFIXES: Final = (".sqlite", ".db")
MISSING: Final = object()
"""Instead of an entry: there is none that can be trusted."""

_SOMETHING_ELSE: Final = "{}: found a file of something else; allowed: a store, or a new file"
_OURS: Final = 0x4C624D6E
"""SQLite's application id of such a file."""
_FORMAT: Final = 1
_MOST_BYTES: Final = 500 * 10**6
_MOST_UNPACKED: Final = 50 * 10**6
"""Bytes of one entry: figures take some thousands."""
_WAIT_S: Final = 30.0
_PRUNE_EVERY: Final = 256


_DAMAGE: Final = (sqlite3.DatabaseError, ValueError, TypeError, OverflowError)
"""What a damaged file raises: SQLite's own error, or what becomes of its text and numbers on their way to Python."""


class _OfAnotherKind(sqlite3.DatabaseError):
    """It was written by another version, or by something else."""


class Size(NamedTuple):
    """What a store holds.

    Attributes:
        entries: how many.
        size: of its file [bytes].
    """

    entries: int
    size: int


class Store:
    """Figures that were kept.

    Args:
        path: its file, made where there is none. Default: in the user's cache directory.
        tell: called with a sentence where it is damaged or cannot be used.

    Raises:
        OutputError: the file is something else, or cannot be one.

    Example:
        >>> kept = study.compare(plans=["noon"], store=Store("figures.sqlite"))
    """

    def __init__(self, path: str | Path | None = None, tell: Callable[[str], None] | None = None) -> None:
        self.path = cache_directory() / "figures.sqlite" if path is None else Path(path)
        self._is_own, self._tell = path is None, tell or _warn
        self._lock = threading.Lock()
        self._written = 0
        self._connection: sqlite3.Connection | None = None
        if not self._is_own:
            self._check()
        self._open()

    def _check(self) -> None:
        """Refuse a place of the user's where no store can be.

        The file itself is only read by SQLite: if it were closed here, locks on it would be lost.
        """
        check_output(self.path, SUFFIXES)

    # -- opened, and set aside where it is damaged -----------------------------------------------------

    def _open(self) -> None:
        for _ in range(2):
            try:
                self.path.parent.mkdir(parents=True, exist_ok=True)
                self._connection = self._connected()
                # Whoever forgets to close it leaves nothing open; at exit others see to it.
                weakref.finalize(self, self._connection.close).atexit = False
            except _OfAnotherKind:
                self._set_aside("is of another version")
                continue
            except OutputError:
                raise
            except (sqlite3.OperationalError, OSError) as error:  # a full disk, a folder that cannot be written
                self._tell(f"{self.path}: this store cannot be used, so nothing is kept: {error}.")
                return
            except _DAMAGE as error:
                if getattr(error, "sqlite_errorcode", None) == sqlite3.SQLITE_NOTADB and not self._is_own:
                    raise OutputError(_SOMETHING_ELSE.format(self.path)) from None
                self._set_aside("is damaged")
                continue
            return

    def _connected(self) -> sqlite3.Connection:
        connection = sqlite3.connect(self.path, timeout=_WAIT_S, isolation_level=None, check_same_thread=False)
        ours = None
        try:
            (ours,) = connection.execute("PRAGMA application_id").fetchone()
            (form,) = connection.execute("PRAGMA user_version").fetchone()
            (tables,) = connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
            if tables:
                self._check_kind(ours, form)
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("PRAGMA synchronous = NORMAL")
            connection.execute("BEGIN IMMEDIATE")
            connection.execute(f"PRAGMA application_id = {_OURS}")
            connection.execute(f"PRAGMA user_version = {_FORMAT}")
            connection.execute(
                "CREATE TABLE IF NOT EXISTS entries (key TEXT PRIMARY KEY, body BLOB NOT NULL, checksum BLOB NOT NULL, "
                "kept_s REAL NOT NULL) WITHOUT ROWID"
            )
            connection.execute("COMMIT")
        except BaseException as error:
            connection.close()
            if isinstance(error, _DAMAGE) and not self._is_own and ours not in {None, _OURS}:
                raise OutputError(_SOMETHING_ELSE.format(self.path)) from None
            raise
        return connection

    def _check_kind(self, ours: int, form: int) -> None:
        if ours != _OURS and not self._is_own:
            raise OutputError(_SOMETHING_ELSE.format(self.path))
        if (ours, form) != (_OURS, _FORMAT):
            raise _OfAnotherKind

    def _set_aside(self, why: str) -> None:
        """What cannot be trusted is out of the way, and kept for whoever wants to look."""
        self.close()
        aside = self.path.with_name(f"{self.path.stem}-damaged{self.path.suffix}")
        for ending in ("", "-wal", "-shm"):
            try:
                Path(f"{self.path}{ending}").replace(f"{aside}{ending}")
            except OSError:
                continue
        self._tell(f"{self.path}: this store {why}; it is now {aside.name}, and a new one is begun.")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Done with it."""
        with self._lock:
            if self._connection is not None:
                self._connection.close()
                self._connection = None

    # -- entries -------------------------------------------------------------------------------------

    def get(self, key: str, read: Callable[[Any], Any]) -> Any:
        """What was put there, as it is read; `MISSING`: nothing that can be trusted.

        Args:
            key: of the entry.
            read: makes of what JSON has said what is wanted; whatever it raises tells that the entry is not ours.
        """
        row = self._run("SELECT body, checksum FROM entries WHERE key = ?", key)
        if not row:
            return MISSING
        try:
            return read(json.loads(_unpacked(key, *row[0])))
        except LibramenError:  # of the user's, who asks for what it cannot say
            raise
        except Exception:  # noqa: BLE001  (nobody knows what reading something foreign may raise)
            self._run("DELETE FROM entries WHERE key = ?", key)
            self._tell(f"{self.path}: an entry of this store is damaged or not ours; it is thrown away and not used.")
            return MISSING

    def put(self, key: str, value: Any) -> None:
        """Keep what JSON can say; what cannot be written is not kept, which is no mistake."""
        body = zlib.compress(json.dumps(value, allow_nan=False).encode(), 1)
        self._run("INSERT OR REPLACE INTO entries VALUES (?, ?, ?, ?)", key, body, _checksum(key, body), time.time())
        self._written += 1
        if self._written % _PRUNE_EVERY == 0 and self.size().size > _MOST_BYTES:
            self._run("DELETE FROM entries WHERE kept_s <= (SELECT kept_s FROM entries ORDER BY kept_s "
                      "LIMIT 1 OFFSET (SELECT count(*) / 4 FROM entries))")  # fmt: skip
            self._run("VACUUM")

    def _run(self, statement: str, *values: Any) -> list[tuple[Any, ...]]:
        with self._lock:
            if self._connection is None:
                return []
            try:
                return self._connection.execute(statement, values).fetchall()
            except sqlite3.OperationalError as error:  # locked for too long, a full disk
                self._tell(f"{self.path}: this store cannot be used any more, so nothing is kept: {error}.")
                self._connection.close()
                self._connection = None
                return []
            except _DAMAGE:
                pass
        self._set_aside("is damaged")
        self._open()
        return []

    def size(self) -> Size:
        """How much there is."""
        row = self._run("SELECT count(*) FROM entries")
        files = [Path(f"{self.path}{ending}") for ending in ("", "-wal")]
        return Size(row[0][0] if row else 0, sum(file.stat().st_size for file in files if file.exists()))

    def clear(self) -> int:
        """Throw everything away; returns how many entries there were."""
        n = self.size().entries
        self._run("DELETE FROM entries")
        self._run("VACUUM")
        self._run("PRAGMA wal_checkpoint(TRUNCATE)")
        return n


def _unpacked(key: str, body: bytes, checksum: bytes) -> bytes:
    if _checksum(key, body) != checksum:
        raise ValueError
    unpacker = zlib.decompressobj()
    text = unpacker.decompress(body, _MOST_UNPACKED)
    if not unpacker.eof:
        raise ValueError
    return text


def _checksum(key: str, body: bytes) -> bytes:
    return hashlib.blake2b(key.encode() + body, digest_size=16).digest()


def _warn(sentence: str) -> None:
    import warnings

    warnings.warn(sentence, stacklevel=4)
