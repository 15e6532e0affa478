"""Formulas: plain arithmetic over named readings, checked piece by piece and turned into a program for the compiled walk.

Nothing of a formula is ever run as code. It is parsed, each piece of the syntax tree is held against what is allowed, and
what is left becomes a list of steps on a stack of numbers (`kernels/formula.py`).
"""

from __future__ import annotations

import ast
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

from pegloom.core.errors import EditError
from pegloom.core.rig.kernels import formula as kernel

LONGEST = 1000
"""Characters."""
MOST_PIECES = 200
DEEPEST = kernel.DEPTH - 4
NUMBERS: Mapping[str, float] = {"pi": math.pi, "deg": math.pi / 180, "cm": 0.01}
"""Names that stand for a number: a degree is so many radians, a centimetre so many metres."""
BINARY: Mapping[type, int] = {
    ast.Add: kernel.ADD, ast.Sub: kernel.SUB, ast.Mult: kernel.MUL, ast.Div: kernel.DIV, ast.Mod: kernel.MOD, ast.Pow: kernel.POW,
}  # fmt: skip
COMPARED: Mapping[type, int] = {
    ast.Lt: kernel.LESS, ast.LtE: kernel.LESS_EQUAL, ast.Gt: kernel.MORE, ast.GtE: kernel.MORE_EQUAL, ast.Eq: kernel.EQUAL,
    ast.NotEq: kernel.UNEQUAL,
}  # fmt: skip
CALLS: Mapping[str, tuple[int, int]] = {
    "abs": (kernel.ABS, 1), "sin": (kernel.SIN, 1), "cos": (kernel.COS, 1), "tan": (kernel.TAN, 1), "asin": (kernel.ASIN, 1),
    "acos": (kernel.ACOS, 1), "sqrt": (kernel.SQRT, 1), "floor": (kernel.FLOOR, 1), "atan2": (kernel.ATAN2, 2),
    "clamp": (kernel.CLAMP, 3), "mix": (kernel.MIX, 3), "smooth": (kernel.SMOOTH, 3),
}  # fmt: skip
"""What may be called: its step, and how many numbers it takes. `min` and `max` take two or more. `clamp(x, low, high)`,
`mix(a, b, share)`, `smooth(low, high, x)`: 0 up to low, 1 from high on, without a corner between."""
FOLDED = {"min": kernel.LEAST, "max": kernel.MOST}


class FormulaError(EditError):
    """A formula that cannot be. at : the character (from 0) it is about, -1 for all of it."""

    def __init__(self, said: str, at: int = -1) -> None:
        super().__init__(said)
        self.at = at


@dataclass(frozen=True, slots=True)
class Program:
    """steps : (what, operand) one after the other; constants : what PUSH takes its number from."""

    steps: tuple[tuple[int, int], ...]
    constants: tuple[float, ...]


@lru_cache(maxsize=256)
def compiled(text: str, names: tuple[str, ...]) -> Program:
    """The program of a formula over readings of those names, in that order. Raises FormulaError with the place."""
    stripped = text.strip()
    if not stripped:
        raise FormulaError("the formula is empty; `x` alone passes the reading on", 0)
    if len(text) > LONGEST:
        raise FormulaError(f"the formula is longer than {LONGEST} characters", LONGEST)
    lead = len(text) - len(text.lstrip())
    try:
        tree = ast.parse(stripped, mode="eval")
    except SyntaxError as error:
        at = error.offset - 1 if error.offset else len(stripped)
        raise FormulaError(f"the formula stops making sense at character {lead + at + 1}", lead + at) from None
    except (ValueError, RecursionError, MemoryError):
        raise FormulaError("the formula cannot be read", 0) from None
    return _Compiler(names, stripped, lead).program(tree.body)


def scaled(text: str, factors: Mapping[str, float]) -> str:
    """A formula that makes of other readings what `text` makes of its own: each named one times its factor."""
    changes = {name: factor for name, factor in factors.items() if factor != 1.0}
    if not changes:
        return text
    tree = _Scaled(changes).visit(ast.parse(text.strip(), mode="eval"))
    return ast.unparse(ast.fix_missing_locations(tree))


class _Scaled(ast.NodeTransformer):
    def __init__(self, factors: Mapping[str, float]) -> None:
        self.factors = factors

    def visit_Call(self, node: ast.Call) -> ast.AST:
        node.args = [self.visit(a) for a in node.args]
        return node

    def visit_Name(self, node: ast.Name) -> ast.AST:
        factor = self.factors.get(node.id)
        if factor is None:
            return node
        if factor == -1.0:
            return ast.UnaryOp(ast.USub(), node)
        return ast.BinOp(node, ast.Mult(), ast.Constant(factor))


class _Compiler:
    def __init__(self, names: Sequence[str], text: str, lead: int) -> None:
        self.names, self.text, self.lead = {name: k for k, name in enumerate(names)}, text, lead
        self.steps: list[tuple[int, int]] = []
        self.constants: list[float] = []
        self.pieces = self.depth = 0

    def program(self, tree: ast.expr) -> Program:
        self.put(tree)
        return Program(tuple(self.steps), tuple(self.constants))

    def at(self, node: ast.expr) -> int:
        return self.lead + len(self.text.encode()[: node.col_offset].decode(errors="ignore"))

    def fail(self, said: str, node: ast.expr) -> FormulaError:
        at = self.at(node)
        return FormulaError(f"{said}, at character {at + 1}", at)

    def step(self, what: int, operand: int, change: int, node: ast.expr) -> None:
        self.steps.append((what, operand))
        self.depth += change
        if self.depth > DEEPEST:
            raise self.fail("the formula is nested too deeply", node)

    def number(self, value: float, node: ast.expr) -> None:
        self.constants.append(value)
        self.step(kernel.PUSH, len(self.constants) - 1, 1, node)

    def put(self, node: ast.expr) -> None:
        self.pieces += 1
        if self.pieces > MOST_PIECES:
            raise self.fail(f"the formula has more than {MOST_PIECES} pieces", node)
        if isinstance(node, ast.Constant):
            self.put_constant(node)
        elif isinstance(node, ast.Name):
            self.put_name(node)
        elif isinstance(node, ast.BinOp) and type(node.op) in BINARY:
            self.put(node.left)
            self.put(node.right)
            self.step(BINARY[type(node.op)], 0, -1, node)
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, (ast.USub, ast.UAdd, ast.Not)):
            self.put(node.operand)
            if not isinstance(node.op, ast.UAdd):
                self.step(kernel.NOT if isinstance(node.op, ast.Not) else kernel.NEGATE, 0, 0, node)
        elif isinstance(node, ast.Compare):
            self.put_compare(node)
        elif isinstance(node, ast.BoolOp):
            self.put(node.values[0])
            for value in node.values[1:]:
                self.put(value)
                self.step(kernel.BOTH if isinstance(node.op, ast.And) else kernel.EITHER, 0, -1, node)
        elif isinstance(node, ast.IfExp):
            for part in (node.test, node.body, node.orelse):
                self.put(part)
            self.step(kernel.CHOOSE, 0, -2, node)
        elif isinstance(node, ast.Call):
            self.put_call(node)
        else:
            raise self.fail("a formula is made of numbers, readings, + - * / % **, comparisons, `a if b else c` and calls", node)

    def put_constant(self, node: ast.Constant) -> None:
        value = node.value
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            raise self.fail("only plain numbers stand in a formula", node)
        try:
            number = float(value)
        except OverflowError:
            number = math.inf
        if not math.isfinite(number):
            raise self.fail("a number is too large", node)
        self.number(number, node)

    def put_name(self, node: ast.Name) -> None:
        if node.id in self.names:
            self.step(kernel.READ, self.names[node.id], 1, node)
        elif node.id in NUMBERS:
            self.number(NUMBERS[node.id], node)
        else:
            known = ", ".join([*self.names, *NUMBERS])
            raise self.fail(f"there is no reading {node.id[:40]}; there are {known}", node)

    def put_compare(self, node: ast.Compare) -> None:
        left = node.left
        for k, (op, right) in enumerate(zip(node.ops, node.comparators, strict=True)):
            if type(op) not in COMPARED:
                raise self.fail("numbers are compared with < <= > >= == !=", node)
            self.put(left)
            self.put(right)
            self.step(COMPARED[type(op)], 0, -1, node)
            if k:
                self.step(kernel.BOTH, 0, -1, node)
            left = right

    def put_call(self, node: ast.Call) -> None:
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        if name not in CALLS and name not in FOLDED:
            raise self.fail(f"what may be called is {', '.join([*FOLDED, *CALLS])}", node)
        if node.keywords or any(isinstance(a, ast.Starred) for a in node.args):
            raise self.fail(f"{name} takes plain numbers, one after the other", node)
        count = len(node.args)
        if name in FOLDED:
            if count < 2:
                raise self.fail(f"{name} takes two numbers or more", node)
            self.put(node.args[0])
            for argument in node.args[1:]:
                self.put(argument)
                self.step(FOLDED[name], 0, -1, node)
            return
        what, wanted = CALLS[name]
        if count != wanted:
            raise self.fail(f"{name} takes {wanted} number{'s' if wanted > 1 else ''}, not {count}", node)
        for argument in node.args:
            self.put(argument)
        self.step(what, 0, 1 - wanted, node)
