"""Small pictures of the report as SVG, in the colours of the page."""

from __future__ import annotations

from collections.abc import Sequence

from markupsafe import escape

WIDTH = 720
_ROW = 24


def shares(parts: Sequence[tuple[str, int, str]], title: str) -> str:
    """Return bars of what a whole is made of, each with its name and its share.

    Args:
        parts: a name, a count and a class of the page for each.
        title: of the picture.

    Example:
        >>> shares([("kept", 3, "bar")], "rows").count("<rect")
        1
    """
    total = max(sum(count for _, count, _ in parts), 1)
    body = []
    for at, (name, count, kind) in enumerate(parts):
        y = at * 2 * _ROW
        wide = max(WIDTH * count / total, 1 if count else 0)
        body.append(f'<text x="0" y="{y + 14}">{escape(name)}: {count:,} ({100 * count / total:.1f} %)</text>')
        body.append(f'<rect class="{kind}" x="0" y="{y + 20}" width="{wide:.1f}" height="14"/>')
    return _svg(body, len(parts) * 2 * _ROW, title)


def bars(rows: Sequence[tuple[str, int]], title: str) -> str:
    """Return a bar for each name.

    Example:
        >>> bars([("low", 3), ("high", 1)], "bins").count("<rect")
        2
    """
    most = max((count for _, count in rows), default=1) or 1
    body = []
    for at, (name, count) in enumerate(rows):
        y = at * _ROW
        body.append(f'<text x="0" y="{y + 16}">{escape(_short(name, 26))}</text>')
        wide = 420 * count / most
        body.append(f'<rect class="bar" x="200" y="{y + 4}" width="{wide:.1f}" height="16"/>')
        body.append(f'<text class="soft" x="{206 + wide:.1f}" y="{y + 16}">{count:,}</text>')
    return _svg(body, len(rows) * _ROW, title)


def signed(rows: Sequence[tuple[str, float]], title: str) -> str:
    """Return bars to both sides of a line.

    Example:
        >>> signed([("x", -0.5)], "drift").count("down")
        1
    """
    most = max((abs(value) for _, value in rows), default=1.0) or 1.0
    body = [f'<line class="rule" x1="460" x2="460" y1="0" y2="{len(rows) * _ROW}"/>']
    for at, (name, value) in enumerate(rows):
        y, wide = at * _ROW, 180 * abs(value) / most
        x = 460 if value >= 0 else 460 - wide
        body.append(f'<text x="0" y="{y + 16}">{escape(_short(name, 34))}</text>')
        body.append(
            f'<rect class="{"up" if value >= 0 else "down"}" x="{x:.1f}" y="{y + 4}" width="{wide:.1f}" height="16"/>'
        )
        body.append(f'<text class="soft" x="655" y="{y + 16}">{value:+.2f}</text>')
    return _svg(body, len(rows) * _ROW, title)


def heat(names: Sequence[str], table: Sequence[Sequence[float]], title: str) -> str:
    """Return a square of cells, the stronger the further from 0.

    Example:
        >>> heat(["a", "b"], [[1.0, 0.5], [0.5, 1.0]], "correlations").count("<rect")
        4
    """
    size = 18 if len(names) <= 24 else 13
    left = 190
    body = []
    for row, name in enumerate(names):
        y = row * size
        body.append(f'<text x="{left - 6}" y="{y + size - 4}" text-anchor="end">{escape(_short(name, 26))}</text>')
        for at, other in enumerate(names):
            value = table[row][at]
            kind, strength = ("up" if value >= 0 else "down"), min(abs(value), 1.0)
            place = f'x="{left + at * size}" y="{y}" width="{size - 1}" height="{size - 1}"'
            told = f"<title>{escape(name)}, {escape(other)}: {value:+.2f}</title>"
            body.append(f'<rect class="{kind}" fill-opacity="{0.06 + 0.94 * strength:.2f}" {place}>{told}</rect>')
    return _svg(body, len(names) * size + 4, title, max(WIDTH, left + len(names) * size), "heat")


def _short(name: str, most: int) -> str:
    return name if len(name) <= most else name[: most - 2] + ".."


def _svg(body: Sequence[str], height: int, title: str, width: int = WIDTH, kind: str = "plain") -> str:
    inner = "".join(body)
    size = f'viewBox="0 0 {width} {max(height, 1)}" width="{width}"'
    head = f'<svg class="{kind}" {size} role="img" aria-label="{escape(title)}">'
    return f"{head}{inner}</svg>"
