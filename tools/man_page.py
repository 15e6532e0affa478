#!/usr/bin/env python3
"""The manual, made from the commands themselves: src/pegloom/assets/desktop/pegloom.1."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import typer

from pegloom.cli import app

OUT = Path(__file__).parents[1] / "src" / "pegloom" / "assets" / "desktop" / "pegloom.1"


def escaped(text: str) -> str:
    """Text for troff: no line begins a request, no dash is a hyphen where it stands for an option."""
    text = " ".join(text.split()).replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{text}" if text[:1] in (".", "'") else text


def metavar(p: Any) -> str:
    return str(p.metavar or (p.name or "").replace("_", " ").upper())


def told(command: Any, name: str) -> list[str]:
    """A command's section; of a group those of what is in it."""
    if hasattr(command, "commands"):
        return [line for key, one in sorted(command.commands.items()) for line in told(one, f"{name} {key}")]
    lines = [".SS " + escaped(name), escaped(command.help or "")]
    for p in command.params:
        if hasattr(p, "is_flag"):
            lines += [".TP", "\\fB" + escaped(", ".join(p.opts)) + "\\fR" + (f" \\fI{escaped(metavar(p))}\\fR" if not p.is_flag else ""), escaped(p.help or "")]
        else:
            lines += [".TP", f"\\fI{escaped(metavar(p))}\\fR", escaped(getattr(p, "help", None) or "a file" if p.name else "")]
    return lines


def page() -> str:
    group = typer.main.get_command(app)
    lines = [
        '.TH PEGLOOM 1 "" "Peg Loom" "User Commands"', ".SH NAME", "pegloom \\- joints, skin weights and controls for character riggers", ".SH SYNOPSIS",
        ".B pegloom", "\\fICOMMAND\\fR [\\fIARGUMENTS\\fR]", ".SH DESCRIPTION", escaped(app.info.help or ""),
        escaped("Without a screen: the same verbs as the window. With `pegloom open FILE` and `pegloom demo` the window itself."), ".SH COMMANDS",
    ]  # fmt: skip
    for name, command in sorted(group.commands.items()):
        lines += told(command, name)
    lines += [
        ".SH FILES", ".TP", "$XDG_DATA_HOME/pegloom", escaped("settings, patterns, targets, kept clips, reports"), ".TP", "$XDG_CACHE_HOME/pegloom", "compiled kernels",
        ".SH EXIT STATUS", escaped("0 done; 1 an error, told in one line that begins with error:; 2 wrong usage."),
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    OUT.write_text(page())
    print(OUT, file=sys.stderr)
