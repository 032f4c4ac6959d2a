"""Where the sample data and plans are, and laying them out in a folder of the user's."""

from __future__ import annotations

import shutil
from importlib.resources import as_file, files
from pathlib import Path

from facturum.errors import DataError

SAMPLES = (
    "huts.csv",
    "huts.toml",
    "clean.toml",
    "survey.csv",
    "survey.toml",
    "time.toml",
    "energy.csv",
    "weather.csv",
)
PLANS = {
    "huts": "huts.csv",
    "clean": "huts.csv",
    "survey": "survey.csv",
    "time": "huts.csv",
}  # each plan, and the table it is for


def lay_out(folder: Path) -> list[str]:
    """Copy the sample files into a folder; files already there are left as they are.

    Returns:
        The names of the files that were there already and differ from the samples.

    Raises:
        DataError: where the folder cannot be written.
    """
    try:
        return _laid_out(folder)
    except (OSError, ValueError) as problem:
        raise DataError(f"{folder} cannot be written: {problem}", remedy="Choose another place.") from None


def _laid_out(folder: Path) -> list[str]:
    folder.mkdir(parents=True, exist_ok=True)
    laid_out = []
    for name in SAMPLES:
        with as_file(files("facturum.demo") / "data" / name) as sample:
            target = folder / name
            if not target.exists():
                shutil.copyfile(sample, target)
            elif target.read_bytes() != sample.read_bytes():
                laid_out.append(name)
    return laid_out


def sample(name: str) -> Path:
    """Return the path of a sample file that ships with the package.

    Example:
        >>> sample("huts.csv").name
        'huts.csv'
    """
    path = Path(str(files("facturum.demo") / "data" / name))
    if name not in SAMPLES:
        raise FileNotFoundError(f"sample {name} not found; choose from {', '.join(SAMPLES)}")
    return path
