"""What changed between two builds, in the terminal."""

from __future__ import annotations

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.rule import Rule
from rich.text import Text

from facturum.audit.comparison.changes import DRIFTED, Comparison
from facturum.show.terminal.fitting import Fitting, Head
from facturum.show.terminal.views import figure, safe

SHOWN = 12


def comparison_view(comparison: Comparison) -> RenderableType:
    """Return what changed, by topic; nothing of topics without changes."""
    if comparison.same:
        return Text.assemble(("the same ", "bold green"), safe(str(comparison)))
    title = f"from {comparison.before} to {comparison.after}: {comparison.matched}"
    view: list[RenderableType] = [safe(title, "bold")]
    for topic, sentences in comparison.sections():
        if sentences:
            view.append(Rule(Text(topic, "bold"), style="dim", align="left"))
            view += [Padding(safe(sentence), (0, 0, 0, 2)) for sentence in sentences[: 4 * SHOWN]]
            if len(sentences) > 4 * SHOWN:
                view.append(Text(f"  .. and {len(sentences) - 4 * SHOWN:,} more"))
    drifted = [(name, drift) for name, drift in comparison.drifts if drift.stability >= DRIFTED]
    if drifted:
        heads = [Head("column", "bold", leads=True), Head("stability index", right=True)]
        heads += [
            Head(name, right=True) for name in ("means apart (sd)", "mean before", "after", "missing before", "after")
        ]
        rows = [
            [safe(name), Text(f"{d.stability:.3f}"), Text("–" if d.difference is None else f"{d.difference:+.2f}"),
             Text(figure(d.means[0])), Text(figure(d.means[1])), Text(f"{100 * d.missing[0]:.1f} %"),
             Text(f"{100 * d.missing[1]:.1f} %")]
            for name, d in drifted[:SHOWN]
        ]  # fmt: skip
        view += [Rule(Text("distributions", "bold"), style="dim", align="left"), Fitting(heads, rows)]
    return Group(*view)
