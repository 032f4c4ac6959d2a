"""Gathers every message of the package from its source: errors with their remedies, and warnings."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PACKAGE = ROOT / "src/facturum"
ERRORS = {"PlanError", "DataError", "AuditError", "FacturumError", "RowFailure", "Unlearnable"}
METHODS = {"fail": (0, 1), "failure": (2, 3)}  # where the sentence and its remedy stand among the arguments
WARNINGS = ("audit/map/warnings.py", "audit/readings/coefficients.py", "audit/topics/timeline.py")
HEAD = """# Every message

Written by `make docs` from the source, so that wording can be read in one place. What stands in braces is filled in.
"""


def templates(node: ast.expr | None, local: dict[str, list[ast.expr]]) -> list[str]:
    """Return the texts that an expression can be, its parts in braces; names are looked up among the assignments."""
    if node is None or (isinstance(node, ast.Constant) and node.value is None):
        return [""]
    if isinstance(node, ast.Constant):
        return [str(node.value)]
    if isinstance(node, ast.JoinedStr):
        return ["".join(_piece(part) for part in node.values)]
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        return [a + b for a in templates(node.left, local) for b in templates(node.right, local)]
    if isinstance(node, ast.IfExp):
        return [*templates(node.body, local), *templates(node.orelse, local)]
    if isinstance(node, ast.BoolOp):
        return [text for each in node.values for text in templates(each, local)]
    if isinstance(node, ast.Name) and node.id in local:
        return [text for each in local[node.id] for text in templates(each, {})]
    return ["{" + ast.unparse(node) + "}"]


def _piece(part: ast.expr) -> str:
    if isinstance(part, ast.Constant):
        return str(part.value)
    if not isinstance(part, ast.FormattedValue):
        return "{..}"
    value = part.value
    if isinstance(value, ast.Call) and isinstance(value.func, ast.Name) and value.func.id == "option":
        return " / ".join(text for each in value.args for text in templates(each, {}))
    return "{" + ast.unparse(value) + "}"


def messages(path: Path) -> Iterator[tuple[int, str, str]]:
    """Yield the line of each message, its text and its remedy."""
    tree = ast.parse(path.read_text("utf-8"))
    warns = str(path.relative_to(PACKAGE)) in WARNINGS
    for function in ast.walk(tree):
        if not isinstance(function, ast.FunctionDef):
            continue
        local: dict[str, list[ast.expr]] = {}
        for node in ast.walk(function):
            if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
                local.setdefault(node.targets[0].id, []).append(node.value)
        for node in ast.walk(function):
            if isinstance(node, ast.Call) and (found := _said(node)):
                what, remedy = found
                for text in templates(what, local):
                    for advice in templates(remedy, local):
                        yield node.lineno, text, advice
            elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "Finding":
                for text in templates(node.args[1], local):
                    yield node.lineno, f"finding: {text}", ""
            elif (
                warns and isinstance(node, ast.Yield) and isinstance(node.value, ast.JoinedStr | ast.IfExp | ast.BinOp)
            ):
                for text in templates(node.value, local):
                    yield node.lineno, f"warning: {text}", ""


def _said(call: ast.Call) -> tuple[ast.expr, ast.expr | None] | None:
    """Return the sentence and the remedy of a call that makes an error."""
    name = call.func.id if isinstance(call.func, ast.Name) else getattr(call.func, "attr", "")
    at: tuple[int, int | None] | None = (0, None) if name in ERRORS else METHODS.get(name)
    if at is None or len(call.args) <= at[0]:
        return None
    if name in ("RowFailure", "Unlearnable"):
        at = (1, 3 if name == "RowFailure" else 2)
    remedy = next((each.value for each in call.keywords if each.arg == "remedy"), None)
    if remedy is None and at[1] is not None and len(call.args) > at[1]:
        remedy = call.args[at[1]]
    return (call.args[at[0]], remedy) if len(call.args) > at[0] else None


def message_list() -> str:
    """Return all messages as Markdown, by file."""
    parts = [HEAD]
    for path in sorted(PACKAGE.rglob("*.py")):
        found = sorted(dict.fromkeys((text, advice) for _, text, advice in sorted(messages(path)) if _is_written(text)))
        if found:
            parts.append(f"## {path.relative_to(PACKAGE)}\n")
            parts += [f"- {text.strip()}" + (f"  \n  *{advice.strip()}*" if advice else "") for text, advice in found]
            parts.append("")
    return "\n".join(parts)


def _is_written(text: str) -> bool:
    return " " in text.strip() and not (text.startswith("{") and text.endswith("}") and text.count("{") == 1)


if __name__ == "__main__":
    print(message_list())
