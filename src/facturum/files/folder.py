"""Folders written whole or not at all: one writer at a time, one exchange, and readers that see one state."""

from __future__ import annotations

import ctypes
import errno
import mmap
import os
import secrets
import shutil
import stat
import sys
import time
from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import BinaryIO, TypeAlias

import pyarrow as pa

from facturum.errors import DataError, option

_EXCHANGE, _HERE = 2, -100  # RENAME_EXCHANGE and AT_FDCWD of Linux
_SWAP = 2  # RENAME_SWAP of macOS
_TRIES = 50
_PAUSE = 0.01  # seconds between two looks at a lock
_READ = os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0)
_DIRECTORY = getattr(os, "O_DIRECTORY", 0)
Buffer: TypeAlias = bytes | mmap.mmap


def write_folder(
    target: Path,
    write: Callable[[Path], None],
    replaceable: Callable[[Path], Collection[str]],
    replace: bool = False,
    wait: float = 0.0,
) -> None:
    """Write a folder whole or not at all.

    A folder beside the target is filled, brought to the disk, and exchanged with it in one step, so that a reader or a
    kill finds the old state or the new one.

    Args:
        target: where; a folder that exists is replaced only on request, and only if it is a Facturum build.
        write: fills an empty folder.
        replaceable: refuses a folder that is not ours; returns the names of those of its files that are.
        replace: whether an old build may be replaced.
        wait: for how many seconds to wait for another writer of the place.

    Raises:
        DataError: where the folder already exists, is not ours, is being written by another, or cannot be written;
            the old state stays.
    """
    try:
        target = Path(os.path.abspath(target))
        if not target.name:
            raise DataError(f"{target} is not a place for a build", remedy="Name a folder below it.")
        target.parent.mkdir(parents=True, exist_ok=True)
        with _alone(target, wait):
            _clean_up(target)
            _refuse_target(target, replaceable, replace)
            _write_beside(target, write)
    except (OSError, ValueError, pa.ArrowException) as problem:
        raise DataError(
            f"{target} cannot be written: {_words(problem)}",
            remedy="Nothing was changed. Make room, or choose another place.",
        ) from None


def _words(problem: Exception) -> str:
    text = problem.strerror if isinstance(problem, OSError) and problem.strerror else str(problem)
    return text.strip().splitlines()[0] if text.strip() else type(problem).__name__


def _refuse_target(target: Path, replaceable: Callable[[Path], Collection[str]], replace: bool) -> None:
    if not target.exists() and not target.is_symlink():
        return
    if not replace:
        raise DataError(
            f"{target} already exists",
            remedy=f"Choose another folder, or replace it: {option('--replace', 'replace=True')}.",
        )
    if target.is_symlink():
        raise DataError(f"{target} is a link, and is not changed", remedy="Choose another folder.")
    replaced = replaceable(target)
    foreign = sorted(path.name for path in target.iterdir() if path.name not in replaced or path.is_dir())
    if foreign:
        raise DataError(
            f"{target} holds files that are not of the build: {', '.join(foreign[:5])}",
            remedy="Move them to another folder first: a build that is replaced is removed whole.",
        )


def _write_beside(target: Path, write: Callable[[Path], None]) -> None:
    part = _beside(target, f"part-{secrets.token_hex(4)}")
    with _at_the_end(partial(_remove, part)):  # the new build where it is not whole, the old one once it is replaced
        part.mkdir()
        write(part)
        for file in part.iterdir():
            _settle(file)
        _settle(part)
        _put(part, target)
        with suppress(OSError):
            _settle(target.parent)


@contextmanager
def _at_the_end(clean: Callable[[], None]) -> Iterator[None]:
    """Clean up at the end, and once more: a signal may have interrupted it the first time."""
    try:
        try:
            yield
        finally:
            clean()
    finally:
        clean()


def _put(part: Path, target: Path) -> None:
    """Put a folder in the place of another in one step; where the system cannot, the old one is aside for a moment."""
    if not target.exists():
        part.rename(target)
    elif not _exchange(part, target):
        old = _beside(target, "old")
        target.rename(old)
        try:
            part.rename(target)
        except BaseException:
            old.rename(target)
            raise
        old.rename(part)


def _exchange(a: Path, b: Path) -> bool:
    """Exchange two folders in one step, or return that the system or the disk cannot."""
    if os.name != "posix":
        return False
    library = ctypes.CDLL(None, use_errno=True)
    if sys.platform == "darwin" and hasattr(library, "renamex_np"):
        done = library.renamex_np(os.fsencode(a), os.fsencode(b), _SWAP)
    elif hasattr(library, "renameat2"):
        done = library.renameat2(_HERE, os.fsencode(a), _HERE, os.fsencode(b), _EXCHANGE)
    else:
        return False
    if done == 0:
        return True
    number = ctypes.get_errno()
    if number in (errno.ENOSYS, errno.EINVAL, errno.ENOTSUP, errno.EPERM):
        return False
    raise OSError(number, os.strerror(number), str(b))


def _beside(target: Path, kind: str) -> Path:
    return target.with_name(f".{target.name}.facturum-{kind}")


def _clean_up(target: Path) -> None:
    """Undo what a killed build left: an old build moved aside comes back, parts of new ones go."""
    old = _beside(target, "old")
    if old.exists() and not target.exists():
        old.rename(target)
    _remove(old)
    start = _beside(target, "part-").name
    for path in target.parent.iterdir():
        if path.name.startswith(start):
            _remove(path)


def _remove(folder: Path) -> None:
    """Remove a folder of ours, also a write-protected one; what cannot be removed is left beside the target."""
    if not folder.exists():
        return
    with suppress(OSError):
        folder.chmod(stat.S_IRWXU)
    shutil.rmtree(folder, ignore_errors=True)


def _settle(path: Path) -> None:
    """Bring a file, or the names in a folder, to the disk."""
    if path.is_dir() and not _DIRECTORY:
        return
    handle = os.open(path, os.O_RDONLY | (_DIRECTORY if path.is_dir() else 0))
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


@contextmanager
def _alone(target: Path, wait: float) -> Iterator[None]:
    """Refuse a second writer of one place, or wait for its turn; a lock ends with the process that holds it.

    Who waits for the lock holds another one, of the queue. So a writer that comes again and again stands behind it.
    """
    until = time.monotonic() + wait
    queue, place = _beside(target, "next-lock"), _beside(target, "lock")
    ahead = _locked(queue, target, until)
    with _at_the_end(partial(_unlock, ahead, queue)):
        lock = _locked(place, target, until)
    with _at_the_end(partial(_unlock, lock, place)):
        yield


def _unlock(lock: BinaryIO, place: Path) -> None:
    with suppress(OSError, ValueError):  # a lock that has been given back before is closed, and the place another's
        same_file = os.fstat(lock.fileno()).st_ino == place.stat().st_ino
        if os.name == "nt":  # where an open file cannot be removed
            lock.close()
        if same_file:
            place.unlink()
    lock.close()


def _locked(place: Path, target: Path, until: float) -> BinaryIO:
    """Return the lock as a file, which gives it back when it is closed, also by an interrupt.

    Raises:
        DataError: where another has it until some moment.
    """
    while True:
        lock = _lock_or_none(place)
        if lock is not None:
            return lock
        if time.monotonic() >= until:
            break
        time.sleep(_PAUSE)
    raise DataError(
        f"another build is being written to {target}",
        remedy="Wait until it is done (wait=60 waits for a minute), or choose another folder.",
    )


def _lock_or_none(place: Path) -> BinaryIO | None:
    """Return the lock, or None where another has it."""
    try:
        import fcntl
    except ImportError:  # where files cannot be locked, the lock is that the file is there
        try:
            return place.open("xb")
        except FileExistsError:
            return None
    for _ in range(_TRIES):
        lock = place.open("ab")
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if os.fstat(lock.fileno()).st_ino == place.stat().st_ino:
                return lock
        except BlockingIOError:
            lock.close()
            break
        except FileNotFoundError:  # the writer before removed its lock between the two steps
            pass
        lock.close()
    return None


TOO_MANY = (errno.EMFILE, errno.ENFILE, errno.ENOMEM)  # which say nothing of the file


def read_folder(folder: Path, names: Callable[[bytes], Collection[str]], first: str) -> Snapshot:
    """Return the contents of files of a folder, all of one state even if it is replaced meanwhile.

    Args:
        folder: the folder.
        names: which files are wanted beside the first one, given its content.
        first: the file that is read first.

    Raises:
        OSError: where the folder or its first file cannot be opened.
    """
    for tried in range(_TRIES):
        with _opened(folder) as handles:
            try:
                files: dict[str, Buffer] = {first: handles.read(first)}
            except FileNotFoundError:
                if tried + 1 < _TRIES and not handles.is_in_place():
                    continue  # it was replaced and removed between its opening and this
                raise
            for name in names(bytes(files[first])):
                try:
                    files[name] = handles.read(name)
                except OSError as problem:
                    if problem.errno in TOO_MANY:
                        raise
            snapshot = Snapshot(files, tuple(handles.listed()))
            if handles.is_in_place():
                break
    return snapshot


@dataclass(frozen=True)
class Snapshot:
    """The files of a folder at one moment: contents by name, without those that are not there; and all names in it."""

    files: Mapping[str, Buffer]
    listed: tuple[str, ...]


class _Handles:
    """Reads files below a folder that is held open, so that a folder put in its place does not matter."""

    def __init__(self, folder: Path, handle: int | None) -> None:
        self.folder, self.handle = folder, handle

    def is_in_place(self) -> bool:
        """Return whether no other folder has been put in its place meanwhile."""
        if self.handle is None:
            return True
        try:
            return os.fstat(self.handle).st_ino == self.folder.stat().st_ino
        except FileNotFoundError:
            return False

    def read(self, name: str) -> Buffer:
        """Return the content of a file of the folder's own, which is neither a link nor elsewhere."""
        if os.path.basename(name) != name or name in ("", ".", ".."):
            raise FileNotFoundError(errno.ENOENT, "not a file of the folder's own", name)
        path = self.folder / name if self.handle is None else name
        file = os.open(path, _READ, dir_fd=self.handle)
        try:
            about = os.fstat(file)
            if not stat.S_ISREG(about.st_mode):
                raise FileNotFoundError(errno.ENOENT, "not a file of the folder's own", name)
            return mmap.mmap(file, 0, access=mmap.ACCESS_READ) if about.st_size else b""
        finally:
            os.close(file)

    def listed(self) -> list[str]:
        """Return the names in the folder."""
        return sorted(os.listdir(self.folder if self.handle is None else self.handle))


@contextmanager
def _opened(folder: Path) -> Iterator[_Handles]:
    if not _DIRECTORY or os.open not in os.supports_dir_fd:
        yield _Handles(folder, None)
        return
    try:
        handle = os.open(folder, os.O_RDONLY | _DIRECTORY)
    except FileNotFoundError:
        old = _beside(Path(os.path.abspath(folder)), "old")
        if not old.is_dir():
            raise
        handle = os.open(old, os.O_RDONLY | _DIRECTORY)  # a system without an exchange: the old one is aside
    try:
        yield _Handles(folder, handle)
    finally:
        os.close(handle)


def write_file(path: Path, content: str | bytes) -> None:
    """Write a file whole or not at all.

    Raises:
        DataError: where it cannot be written.
    """
    data = content.encode("utf-8") if isinstance(content, str) else content
    try:
        path = Path(os.path.realpath(path))  # what a link leads to is written, and the link left
        if path.exists() and not path.is_file():
            raise DataError(f"{path} cannot be written: it is not a regular file", remedy="Choose another place.")
        part = path.with_name(f".{path.name}.facturum-part-{secrets.token_hex(4)}")
        with _at_the_end(partial(part.unlink, missing_ok=True)):
            part.write_bytes(data)
            part.replace(path)
    except (OSError, ValueError) as problem:
        raise DataError(f"{path} cannot be written: {_words(problem)}", remedy="Choose another place.") from None
