"""The reference of the command line, as Markdown, from the help of its commands."""

from __future__ import annotations

import click

from facturum.cli.main import main

HEAD = """# Commands

*Made from their help by `make docs`; CI checks that it is up to date.*

Exit status: 0 fine, 1 a check found something, 2 the input is wrong, 70 a defect of Facturum, from 129 a signal.
Errors go to standard error. `--json` prints for programs.
"""


def command_reference() -> str:
    """Return a section for each command: how it is called, what it does, its options."""
    parts = [HEAD]
    context = click.Context(main, info_name="facturum", max_content_width=100, terminal_width=100)
    for name in main.list_commands(context):
        command = main.get_command(context, name)
        if command is not None:
            own = click.Context(command, parent=context, info_name=name, max_content_width=100, terminal_width=100)
            parts.append(f"\n## {name}\n\n```text\n{command.get_help(own)}\n```\n")
    return "".join(parts)
