"""From text to a tree: Python's own ``ast`` reads the syntax, a whitelist decides what may stand in it."""

import ast
import math
from dataclasses import dataclass
from functools import lru_cache

from dravik.errors import FormulaError, nearest
from dravik.formula.functions import FUNCTIONS

__all__ = ["Node", "choice_node", "name_node", "number_node", "parse"]

# Bounds that no formula of an aircraft comes near, so that a file from elsewhere cannot exhaust the memory.
MAX_LENGTH = 4000
MAX_DEPTH = 100

_BINARY = {ast.Add: "add", ast.Sub: "sub", ast.Mult: "mul", ast.Div: "div", ast.Pow: "pow", ast.Mod: "mod"}
_COMPARE = {ast.Lt: "lt", ast.LtE: "le", ast.Gt: "gt", ast.GtE: "ge", ast.Eq: "eq", ast.NotEq: "ne"}


@dataclass(frozen=True)
class Node:
    """A node of a formula's tree.

    ``kind``: ``"number"`` (``value``), ``"name"`` (``name``), ``"op"`` (``name`` is an instruction),
    or ``"call"`` (``name`` is a function with states, or a table). ``position`` is the character.
    """

    kind: str
    position: int
    name: str = ""
    value: float = 0.0
    args: tuple["Node", ...] = ()


def name_node(name: str) -> Node:
    """Return a node that stands for a signal.

    Parameters
    ----------
    name : str
        The signal's name.

    Returns
    -------
    Node
    """
    return Node("name", 0, name)


def number_node(value: float) -> Node:
    """Return a node that stands for a number.

    Parameters
    ----------
    value : float
        The number, SI.

    Returns
    -------
    Node
    """
    return Node("number", 0, value=value)


def choice_node(condition: str, yes: Node, no: Node) -> Node:
    """Return a node that is ``yes`` where a signal is not zero, ``no`` where it is zero.

    Parameters
    ----------
    condition : str
        Name of the signal.
    yes : Node
        Where it is not zero.
    no : Node
        Where it is zero.

    Returns
    -------
    Node
    """
    return Node("op", 0, "if_else", args=(name_node(condition), yes, no))


def parse(text: str | float, *, where: str = "") -> Node:
    """Return the tree of a formula.

    ``text`` is the formula, or a plain number; ``where`` is put in front of messages. Calls of names that are no
    function of the language are taken as tables, to be resolved later.

    Parameters
    ----------
    text : str or float
        The formula, or a plain number.
    where : str, default ""
        What stands ahead of an error: file and key.

    Returns
    -------
    Node

    Raises
    ------
    FormulaError
        Pointing at the character, for anything outside the language.
    """
    # a bool is an int in Python: true in a file would become 1 without a word
    if isinstance(text, bool) or not isinstance(text, str | int | float):
        raise FormulaError(f"{text!r} is no formula", where=where)
    if not isinstance(text, str):
        # an infinite number is refused below, with its position, as too large
        text = repr(float(text)) if abs(text) < 1e308 else "1e999"
    try:
        return _parsed(text)
    except FormulaError:
        return _Parser(text, where).parse()  # the same error, with its place


@lru_cache(maxsize=10_000)
def _parsed(text: str) -> Node:
    # a tree depends on its text alone, and the same aircraft is built again with each law, loading and parameter
    return _Parser(text, "").parse()


class _Parser:
    def __init__(self, text: str, where: str) -> None:
        self.text = text
        self.where = where
        # ast gives byte columns within a line; a formula may have several lines (TOML's multi-line strings)
        self.flat = text.replace("\r", " ").replace("\n", " ").replace("\t", " ").replace("\f", " ")
        self.lead = len(self.flat) - len(self.flat.lstrip())

    def fail(self, what: str, position: int, hint: str = "") -> FormulaError:
        return FormulaError(
            what, text=self.flat, position=min(max(position, 0), len(self.flat)), where=self.where, hint=hint
        )

    def at(self, node: ast.AST) -> int:
        # columns of ast count bytes of UTF-8: an alpha or a degree sign before the place would shift it
        column: int = getattr(node, "col_offset", 0)
        prefix = self.flat.lstrip().encode("utf-8", "replace")[:column]
        return self.lead + len(prefix.decode("utf-8", "replace"))

    def parse(self) -> Node:
        if not self.flat.strip():
            raise self.fail("the formula is empty", 0)
        if len(self.flat) > MAX_LENGTH:
            raise self.fail(
                f"the formula has {len(self.flat)} characters, more than {MAX_LENGTH}",
                MAX_LENGTH,
                "named parts, each a formula",
            )
        self._check_characters()
        try:
            # only read, never evaluated: nothing in a formula is ever run as Python
            tree = ast.parse(self.flat.strip(), mode="eval")
        except SyntaxError as error:
            position = self.lead + (error.offset or 1) - 1
            raise self.fail(f"this cannot be read as a formula ({error.msg})", position) from None
        # the parser of Python itself gives up on deeply nested or malformed text in these ways
        except (RecursionError, MemoryError, ValueError) as error:
            raise self.fail(f"this cannot be read as a formula ({error})", 0, "named parts") from None
        return self.convert(tree.body, 0)

    def _check_characters(self) -> None:
        depth = 0
        for i, character in enumerate(self.flat):
            # refused before Python's parser sees them, so that the message can name the formula's own operator
            if character in "\"'`;:[]{}\\@#$?~|&!^" and self.flat[i : i + 2] != "!=":
                hint = {
                    "^": "** for a power",
                    "&": "and",
                    "|": "or",
                    "!": "not",
                    "?": "if_else(condition, yes, no)",
                }
                raise self.fail(f"{character!r} has no place in a formula", i, hint.get(character, ""))
            depth += (character == "(") - (character == ")")
            if depth > MAX_DEPTH:
                raise self.fail(f"more than {MAX_DEPTH} brackets are open", i, "named parts, each a formula")

    def convert(self, node: ast.expr, depth: int) -> Node:
        position = self.at(node)
        if depth > MAX_DEPTH:
            raise self.fail(f"the formula is nested deeper than {MAX_DEPTH}", position, "named parts, each a formula")
        # what is not in this list has no meaning in a formula, whatever Python would make of it
        match node:
            # before numbers, because a bool would match as an int
            case ast.Constant(value=bool()):
                raise self.fail("True and False have no place in a formula", position, "1 and 0")
            case ast.Constant(value=int() | float() as value):
                return self.number(value, position)
            case ast.Name(id=name):
                return Node("name", position, name)
            case ast.UnaryOp(op=ast.USub(), operand=operand):
                return self.op("neg", position, depth, operand)
            case ast.UnaryOp(op=ast.UAdd(), operand=operand):
                return self.convert(operand, depth + 1)
            case ast.UnaryOp(op=ast.Not(), operand=operand):
                return self.op("not", position, depth, operand)
            case ast.BinOp(op=op, left=left, right=right) if type(op) in _BINARY:
                return self.op(_BINARY[type(op)], self.operator(left, right), depth, left, right)
            case ast.BoolOp(op=op, values=values):
                parts = [self.convert(v, depth + 1) for v in values]
                return self.chain("and" if isinstance(op, ast.And) else "or", parts)
            # a < b < c means what it means on paper: both comparisons, with b in the middle
            case ast.Compare(left=left, ops=ops, comparators=right):
                return self.comparison([left, *right], ops, depth)
            case ast.Call(func=ast.Name(id=name), args=args, keywords=keywords):
                return self.call(name, args, keywords, position, depth)
            case ast.IfExp():
                raise self.fail("'if ... else' has no place in a formula", position, "if_else(condition, yes, no)")
        raise self.fail(f"{type(node).__name__} has no place in a formula", position)

    def operator(self, left: ast.expr, right: ast.expr) -> int:
        """Return where the operator between two operands stands: messages about it point there."""
        end = len(self.flat.lstrip().encode()[: left.end_col_offset or 0].decode("utf-8", "replace")) + self.lead
        gap = self.flat[end : self.at(right)]
        return end + next((i for i, c in enumerate(gap) if c in "+-*/%"), 0)

    def number(self, value: float, position: int) -> Node:
        try:
            # a whole number in Python may be longer than any float
            number = float(value)
        except OverflowError:
            number = math.inf
        if not math.isfinite(number):
            raise self.fail("this number is too large", position)
        return Node("number", position, value=number)

    def op(self, name: str, position: int, depth: int, *operands: ast.expr) -> Node:
        return Node("op", position, name, args=tuple(self.convert(o, depth + 1) for o in operands))

    def chain(self, name: str, parts: list[Node]) -> Node:
        """Return parts joined by one operation as a balanced tree: a sum of 1000 terms is 10 levels deep, not 1000."""
        if len(parts) == 1:
            return parts[0]
        half = (len(parts) + 1) // 2
        first, second = self.chain(name, parts[:half]), self.chain(name, parts[half:])
        return Node("op", parts[half].position, name, args=(first, second))

    def comparison(self, operands: list[ast.expr], ops: list[ast.cmpop], depth: int) -> Node:
        nodes = [self.convert(o, depth + 1) for o in operands]
        pairs = []
        for i, op in enumerate(ops):
            if type(op) not in _COMPARE:
                raise self.fail(f"{type(op).__name__} has no place in a formula", nodes[i].position)
            pairs.append(Node("op", nodes[i].position, _COMPARE[type(op)], args=(nodes[i], nodes[i + 1])))
        return self.chain("and", pairs)

    def call(self, name: str, args: list[ast.expr], keywords: list[ast.keyword], position: int, depth: int) -> Node:
        function = FUNCTIONS.get(name)
        for argument in args:
            if isinstance(argument, ast.Starred):
                raise self.fail("'*' has no place before an argument", self.at(argument))
        nodes = [self.convert(a, depth + 1) for a in args]
        # a name that is no function can be a table; whether there is one is known when the aircraft is compiled
        if function is None:
            if keywords:
                raise self.fail(f"{name} takes no named arguments", position)
            return Node("call", position, name, args=tuple(nodes))
        nodes = self.arguments(name, nodes, keywords, position, depth)
        # kept as a call: its states and rates are compiled apart from its value
        if function.stateful:
            return Node("call", position, name, args=tuple(nodes))
        if function.variadic:
            return self.chain(function.op, nodes)
        return Node("op", position, function.op, args=tuple(nodes))

    def arguments(
        self, name: str, nodes: list[Node], keywords: list[ast.keyword], position: int, depth: int
    ) -> list[Node]:
        """Return all arguments in order, named ones and defaults put in their places."""
        function = FUNCTIONS[name]
        wanted = ", ".join(function.arguments)
        if function.variadic:
            if keywords or len(nodes) < 2:
                raise self.fail(f"{name} takes two arguments or more", position)
            return nodes
        slots: dict[str, Node] = dict(zip(function.arguments, nodes, strict=False))
        if len(nodes) > len(function.arguments):
            raise self.fail(f"{name} has {len(nodes)} arguments, it takes {wanted}", position)
        for keyword in keywords:
            if keyword.arg not in function.arguments:
                hint = nearest(keyword.arg or "**", function.arguments)
                raise self.fail(f"{name} has no argument {keyword.arg!r}, it takes {wanted}", position, hint)
            if keyword.arg in slots:
                raise self.fail(f"{name} is given {keyword.arg!r} twice", position)
            slots[keyword.arg] = self.convert(keyword.value, depth + 1)
        # defaults belong to the last arguments, as in Python
        first_default = len(function.arguments) - len(function.defaults)
        for i, argument in enumerate(function.arguments):
            if argument not in slots:
                if i < first_default:
                    raise self.fail(f"{name} is missing {argument!r}, it takes {wanted}", position)
                slots[argument] = Node("number", position, value=function.defaults[i - first_default])
        return [slots[a] for a in function.arguments]
