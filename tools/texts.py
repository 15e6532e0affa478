"""Every text a person reads, gathered from the source into one file to translate from: `src/pegloom/assets/texts/en.json`.

`python tools/texts.py` writes it; a test holds it to the source. What stands between braces, {0}, is put in when it is said.
"""

from __future__ import annotations

import ast
import json
import re
import sys
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src" / "pegloom"
PLACE = SOURCE / "assets" / "texts" / "en.json"
NO_TEXT = re.compile(r"^[\w.*/:%#+\-<>=|\\^$\[\](){}]*$|[{;]\s*$|^\s*(#|//|@|\.)|::|^https?:|^void |^vec\d|\bgl_|layout\(|QWidget|<\?xml|^M\d")
WORD = re.compile(r"[A-Za-z]{2,}")
SHOWN_BY = {"label", "setText", "button", "action_button", "field", "setToolTip", "setPlaceholderText", "addItem", "say", "told", "note", "Choices", "tick", "choice", "whole", "number", "Action", "Need", "Step", "Pane", "Card"}
"""Calls whose single words are shown, too."""
NOT_SHOWN = {"name", "id", "key", "role", "icon", "kind", "object_name", "encoding", "mode", "prop"}
"""Arguments that are never shown."""
NAMES = {"setObjectName", "setProperty", "findChild", "getattr", "setattr", "hasattr", "put_icon", "compile", "match", "fullmatch", "search", "sub", "split", "join", "startswith", "endswith", "removeprefix", "removesuffix", "partition", "rpartition", "get", "glob", "strip", "TypeVar", "property", "invokeMethod"}
"""Calls whose strings are no text."""


class Reader(ast.NodeVisitor):
    """texts : found, in their order. single : whether single words count anywhere."""

    def __init__(self, *, window: bool) -> None:
        self.window = window
        self.texts: dict[str, None] = {}
        self.shown = 0

    def take(self, text: str) -> None:
        # A key that an action is on is put in as a gap is.
        free = len(re.findall(r"\{\d+\}", text))
        for number, key in enumerate(dict.fromkeys(re.findall(r"<[a-z_]+\.[\w.]+>", text))):
            text = text.replace(key, f"{{{free + number}}}")
        bare = re.sub(r"\{\d+\}", "", text)
        if not WORD.search(bare) or len(text) > 600 or "\0" in text:
            return
        gap = bare != text
        words = " " in bare.strip() or "\n" in bare.strip() or (gap and self.window and (" " in bare or bool(self.shown)))
        title = re.fullmatch(r"[A-Z][a-z]+(-[a-z]+)?…?", text.strip()) is not None and self.window
        if (words and not NO_TEXT.search(text)) or title or (self.shown and re.fullmatch(r"[A-Za-z][\w' ,.-]*…?", text.strip()) and "." not in text.strip(". ")):
            self.texts[text] = None

    def visit_Expr(self, node: ast.Expr) -> None:
        if not (isinstance(node.value, ast.Constant) and isinstance(node.value.value, str)):
            self.generic_visit(node)

    def visit_Constant(self, node: ast.Constant) -> None:
        if isinstance(node.value, str):
            self.take(node.value)

    def visit_JoinedStr(self, node: ast.JoinedStr) -> None:
        text, number = "", 0
        for piece in node.values:
            if isinstance(piece, ast.Constant):
                text += str(piece.value)
            else:
                text += f"{{{number}}}"
                number += 1
                assert isinstance(piece, ast.FormattedValue)
                self.visit(piece.value)
        self.take(text)

    def visit_Call(self, node: ast.Call) -> None:
        name = node.func.attr if isinstance(node.func, ast.Attribute) else node.func.id if isinstance(node.func, ast.Name) else ""
        if not (isinstance(node.func, ast.Attribute) and isinstance(node.func.value, ast.Constant)):  # "a b c".split() is a list of words
            self.visit(node.func)
        if name == "counted" and len(node.args) > 1:
            words = [a.value for a in node.args[1:3] if isinstance(a, ast.Constant)]
            if words:
                self.texts |= dict.fromkeys((f"{{0}} {words[0]}", f"{{0}} {words[1] if len(words) > 1 else words[0] + 's'}"))
        if name in NAMES:
            for one in (*node.args, *(k.value for k in node.keywords)):
                if not isinstance(one, (ast.Constant, ast.JoinedStr)):
                    self.visit(one)
            return
        self.shown += name in SHOWN_BY
        for one in node.args:
            self.visit(one)
        for keyword in node.keywords:
            if keyword.arg not in NOT_SHOWN:
                self.visit(keyword.value)
        self.shown -= name in SHOWN_BY

    def visit_ClassDef(self, node: ast.ClassDef) -> None:
        chosen = any("Enum" in ast.unparse(b) for b in node.bases)
        for one in node.body:
            self.shown += chosen and isinstance(one, ast.Assign)
            self.visit(one)
            self.shown -= chosen and isinstance(one, ast.Assign)

    def visit_Subscript(self, node: ast.Subscript) -> None:
        self.visit(node.value)
        if not isinstance(node.slice, ast.Constant):
            self.visit(node.slice)

    def visit_AnnAssign(self, node: ast.AnnAssign) -> None:
        if node.value is not None:
            self.visit(node.value)

    def visit_arg(self, node: ast.arg) -> None:
        pass

    def visit_FunctionDef(self, node: ast.FunctionDef) -> None:
        for one in (*node.args.defaults, *(d for d in node.args.kw_defaults if d is not None), *node.body):
            self.visit(one)


def gathered() -> dict[str, str]:
    """Each text and the first file it stands in."""
    found: dict[str, str] = {}
    for path in sorted(SOURCE.rglob("*.py")):
        where = path.relative_to(SOURCE)
        if where.parts[0] in ("assets", "render") or (len(where.parts) == 1 and where.name.startswith("cli")) or where.name in ("trade_words.py", "version_1.py"):
            continue
        reader = Reader(window=where.parts[0] == "app")
        reader.visit(ast.parse(path.read_text()))
        for text in reader.texts:
            found.setdefault(text, str(where))
    for path in sorted((SOURCE / "assets").glob("targets/*.json")) + sorted((SOURCE / "assets").glob("patterns/*.json")):
        tree = json.loads(path.read_text())
        for text in (tree.get("title"), tree.get("use"), tree.get("sentence")):
            if isinstance(text, str) and text:
                found.setdefault(text, str(path.relative_to(SOURCE)))
    return found


def told() -> str:
    """The file's text: grouped by where texts stand, so that whoever translates sees what belongs together."""
    by_file: dict[str, dict[str, str]] = {}
    for text, where in gathered().items():
        by_file.setdefault(where, {})[text] = ""
    tree = {"format": "peg loom texts", "version": 1, "language": "en", "texts": by_file}
    return json.dumps(tree, indent=1, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    PLACE.parent.mkdir(exist_ok=True)
    PLACE.write_text(told())
    print(PLACE, len(gathered()), "texts", file=sys.stderr)
