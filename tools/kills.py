"""Kills, races and full disks while a build folder is replaced: always the whole old build or the whole new one.

python tools/kills.py --kills 500 --readers 100 --pairs 100 --disks 40
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

import facturum as fa
from tests.support import huts, plan

TERMS = {"access": "access", "price": "log(price)", "slope": "valley * change"}


class Place:
    """A folder with a build in it, and what is expected there."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.target = folder / "build"
        self.designs = [
            plan(TERMS).build(huts(2000, seed=1), threads=1),
            plan({"p": "price"}).build(huts(900), threads=1),
        ]
        self._wanted = {tuple(design.names): design.X.tobytes("F") for design in self.designs}
        for design in self.designs:  # the maps are made before the clock runs
            design.save(self.target, replace=True)

    def whole(self) -> str:
        """Return what is wrong with what a reader finds, or nothing."""
        try:
            found = fa.open_design(self.target)
        except fa.FacturumError as error:
            return str(error).splitlines()[0]
        return "" if self._wanted.get(tuple(found.names)) == found.X.tobytes("F") else "a mixture"

    def replace(self, times: int) -> int:
        """Replace the build again and again; return 3 where another writer was there, 4 for any other error."""
        for number in range(times):
            try:
                self.designs[number % 2].save(self.target, replace=True)
            except fa.DataError as error:
                return 3 if "another build is being written" in str(error) else 4
        return 0

    def forked(self, work: Callable[[], int]) -> int:
        """Run something in a process of its own, and return its number."""
        child = os.fork()
        if child == 0:
            code = 99
            try:
                code = work()
            finally:
                os._exit(code)
        return child


def kills(place: Place, count: int, dice: random.Random, reading: bool) -> Counter[str]:
    """Kill a writer at a random moment; with a reader in a loop beside it, where told."""
    found: Counter[str] = Counter()
    for _ in range(count):
        writer = place.forked(lambda: place.replace(1000))
        reader = place.forked(lambda: _read(place, 0.12)) if reading else 0
        time.sleep(dice.uniform(0.001, 0.08))
        os.kill(writer, signal.SIGKILL)
        os.waitpid(writer, 0)
        if reading:
            _, status = os.waitpid(reader, 0)
            found[
                "fine for the reader" if status == 0 else f"the reader found {os.waitstatus_to_exitcode(status)}"
            ] += 1
        found[place.whole() or "whole"] += 1
    place.designs[0].save(place.target, replace=True)
    left = sorted(path.name for path in place.folder.iterdir())
    found["nothing left behind" if left == ["build"] else f"left: {left}"] += 1
    return found


def _read(place: Place, seconds: float) -> int:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if place.whole():
            return 1
    return 0


def pairs(place: Place, count: int) -> Counter[str]:
    """Let two writers write to one place at once."""
    found: Counter[str] = Counter()
    for _ in range(count):
        start = time.monotonic() + 0.01

        def write(start: float = start) -> int:
            while time.monotonic() < start:
                pass
            return place.replace(1)

        children = [place.forked(write) for _ in range(2)]
        codes = sorted(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) for child in children)
        said = {(0, 0): "one after the other", (0, 3): "one refused"}.get((codes[0], codes[1]), f"ended with {codes}")
        found[said] += 1
        found[place.whole() or "whole"] += 1
    return found


def signals(place: Place, count: int, dice: random.Random) -> Counter[str]:
    """Interrupt, terminate and hang up the command line while it builds."""
    found: Counter[str] = Counter()
    data, plan_file = place.folder / "t.parquet", place.folder / "p.toml"
    table = fa.Table.of(huts(200_000))
    from pyarrow import parquet

    parquet.write_table(table.to_arrow(), data)
    plan_file.write_text(
        'response = "stays"\n[terms]\nprice = "log(price)"\naccess = "access"\nx = "valley * change"\n'
    )
    for _ in range(count):
        number = dice.choice((signal.SIGINT, signal.SIGTERM, signal.SIGHUP))
        words = [sys.executable, "-c", "from facturum.cli.main import run; run()", "build", str(plan_file), str(data)]
        child = subprocess.Popen([*words, "--out", str(place.target), "--replace"], stdout=-1, stderr=-1, text=True)
        time.sleep(dice.uniform(1.2, 2.6))  # the interpreter has started by then
        child.send_signal(number)
        _, err = child.communicate()
        code = child.returncode
        fine = code == 0 or (code == 128 + number and len(err.strip().splitlines()) == 1 and "stopped" in err)
        found["fine" if fine else f"exit {code}: {err[-200:]}"] += 1
        left = {path.name for path in place.folder.iterdir()} - {"build", "t.parquet", "p.toml"}
        found["nothing left behind" if not left else f"left: {left}"] += 1
    data.unlink()
    plan_file.unlink()
    return found


def disks(place: Place, count: int) -> Counter[str]:
    """Write to a real file system that is too small, by a little more each time."""
    found: Counter[str] = Counter()
    for number in range(count):
        disk = Path(tempfile.mkdtemp(prefix="facturum-disk-"))
        if subprocess.run(
            ["mount", "-t", "tmpfs", "-o", f"size={4 + 4 * number}k", "tmpfs", str(disk)], check=False
        ).returncode:
            found["could not be mounted"] += 1
            break
        try:
            place.designs[0].save(disk / "build")
            found["room enough"] += 1
        except fa.DataError as error:
            found["told" if "Nothing was changed" in str(error) else str(error)] += 1
            left = list(disk.iterdir())
            found["nothing left behind" if not left else f"left: {left}"] += 1
        finally:
            subprocess.run(["umount", str(disk)], check=True)
            disk.rmdir()
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    for name, default in (
        ("kills", 500),
        ("readers", 100),
        ("pairs", 100),
        ("signals", 30),
        ("disks", 40),
        ("seed", 1),
    ):
        parser.add_argument(f"--{name}", type=int, default=default)
    given = parser.parse_args()
    dice = random.Random(given.seed)
    folder = Path(tempfile.mkdtemp(prefix="facturum-kills-"))
    place = Place(folder)
    fine = {"whole", "fine", "nothing left behind", "fine for the reader", "one after the other", "one refused", "told",
            "room enough", "could not be mounted"}  # fmt: skip
    bad = 0
    for what, found in (
        (f"{given.kills} kills", kills(place, given.kills, dice, False)),
        (f"{given.readers} kills beside a reader", kills(place, given.readers, dice, True)),
        (f"{given.pairs} pairs of writers", pairs(place, given.pairs)),
        (f"{given.signals} signals", signals(place, given.signals, dice)),
        (f"{given.disks} small disks", disks(place, given.disks)),
    ):
        print(f"{what}: {dict(found)}", flush=True)
        bad += sum(count for word, count in found.items() if word not in fine)
    shutil.rmtree(folder)
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
