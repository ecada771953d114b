"""Compiles expressions for quick evaluation on many users, and reports errors with their position.

No code is run, nothing loops, and patterns run in linear time: every expression ends.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cache, lru_cache
from pathlib import Path
from typing import Any

from lark import Lark, Token, UnexpectedInput

from dravo.core.expressions import functions
from dravo.core.expressions.entries import ENTRY_TYPE
from dravo.core.expressions.errors import ExpressionError
from dravo.core.expressions.texts import closing, token_start, unquoted, unreadable
from dravo.core.identity.names import fold
from dravo.core.scim.errors import ScimError
from dravo.core.scim.filters import element_matches, locations, matches
from dravo.core.scim.paths import parse_filter, parse_path
from dravo.core.scim.schemas import USER, ResourceType
from dravo.core.scim.short_names import full_name

# What an expression reads: a SCIM user, or an entry of a source with attributes of any name.
SCIM_USER, ENTRY = "user", "entry"
LONGEST_EXPRESSION = 2_000
DEEPEST = 12
# Attributes that only Dravo sets, or that expressions must not read.
_NOT_READ = ("groups", "password", "meta", "schemas")

Values = Callable[[Mapping[str, Any]], object]


@dataclass(frozen=True)
class Expression:
    """A compiled expression.

    Attributes:
        text: the expression as written.
        uses: the names of the attributes that it reads (of an extension its URN and the name).
        words: what the expression does, in plain words.
    """

    text: str
    uses: frozenset[str]
    words: str
    _evaluate: Values

    def result(self, user: Mapping[str, Any]) -> object:
        """Return the value for a user: text, number, boolean, a list of those; None if it is missing or
        empty.

        Args:
            user: a SCIM User, names as in the schema.
        """
        value = self._evaluate(user)
        return None if value in ("", []) else value


@cache
def _parser() -> Lark:
    """Return the parser, built at its first use: building takes longer than importing this module."""
    grammar = (Path(__file__).parent / "grammar.lark").read_text(encoding="utf-8")
    return Lark(grammar, parser="lalr", maybe_placeholders=False)


@lru_cache(maxsize=2048)
def compile_expression(text: str, reads: str = SCIM_USER) -> Expression:
    """Return a compiled expression.

    Args:
        text: the expression as written.
        reads: `SCIM_USER` for attributes with SCIM names; `ENTRY` for attributes of a directory entry or a
            file's line, with any name in any letter case.

    Raises:
        ExpressionError: with the position of the error, and a hint.
    """
    compiler = (_Compiler if reads == SCIM_USER else _EntryCompiler)(0)
    evaluate, words = compiler.read(text, 0)
    return Expression(text, frozenset(compiler.uses), words, evaluate)


class _Compiler:
    """Compiles one expression, with the expressions inside its texts, so that all used attributes are
    known.
    """

    asked_of: ResourceType = USER

    def __init__(self, depth: int) -> None:
        self.depth = depth
        self.uses: set[str] = set()

    def read(self, text: str, offset: int) -> tuple[Values, str]:
        """Return an expression as a function of a user, and in words; `offset` is the position of its text in
        the whole.
        """
        if len(text) > LONGEST_EXPRESSION:
            raise ExpressionError(
                f"The expression is longer than {LONGEST_EXPRESSION} characters.",
                "Shorten the expression.",
                offset,
            )
        if self.depth > DEEPEST or text.count("(") > 100:
            raise ExpressionError("The expression is nested too deeply.", "Simplify the expression.", offset)
        if not text.strip():
            raise ExpressionError(
                "The expression is empty.",
                "Enter an attribute, such as userName, or a text in quotes.",
                offset,
            )
        try:
            tree = _parser().parse(text)
        except UnexpectedInput as wrong:
            raise unreadable(text, wrong, offset) from None
        return self._choice(tree.children[0], offset)

    def _choice(self, tree: Any, offset: int) -> tuple[Values, str]:
        parts = [self._guarded(each, offset) for each in tree.children]
        if len(parts) == 1:
            return parts[0]
        values = [value for value, _ in parts]

        def first(user: Mapping[str, Any]) -> object:
            found = None
            for value in values:
                found = value(user)
                if found is not None and found not in ("", []):
                    return found
            return found

        return first, "; if there is none, ".join(words for _, words in parts)

    def _guarded(self, tree: Any, offset: int) -> tuple[Values, str]:
        value, words = self._chain(tree.children[0], offset)
        if len(tree.children) == 1:
            return value, words
        token = tree.children[1]
        text = str(token)[str(token).index("[") + 1 : -1]
        try:
            condition = parse_filter(text.strip(), self.asked_of)
        except ScimError as wrong:
            raise ExpressionError(
                f"The condition is invalid: {wrong.detail}",
                "Write the condition as a SCIM filter.",
                offset + token_start(token),
            ) from None
        self.uses |= {
            f"{at.urn}:{at.attribute.name}" if at.urn else at.attribute.name
            for at in locations(condition)
            if at.attribute
        }
        return (
            lambda user: value(user) if matches(condition, user) else None
        ), f"{words}, when {text.strip()}"

    def _chain(self, tree: Any, offset: int) -> tuple[Values, str]:
        value, words = self._value(tree.children[0], offset)
        for each in tree.children[1:]:
            step, what = self._step(each, offset)
            value = _then(value, step)
            words = f"{words}, {what}"
        return value, words

    def _value(self, tree: Any, offset: int) -> tuple[Values, str]:
        kind = tree.data
        if kind == "inner":
            self.depth += 1
            return self._choice(tree.children[0], offset)
        if kind in ("true", "false"):
            return (lambda _: kind == "true"), str(kind)
        token = tree.children[0]
        if kind == "number":
            number = float(token) if "." in token else int(token)
            return (lambda _: number), str(token)
        if kind == "named":
            return self._named(token, offset)
        return self._path(token, offset) if kind == "path" else self._text(token, offset)

    def _named(self, token: Token, offset: int) -> tuple[Values, str]:
        hint = "Use the SCIM name of the attribute, without 'attribute' and quotes."
        raise ExpressionError(
            "'attribute' with a name in quotes works only for directories and files.",
            hint,
            offset + token_start(token),
        )

    def _path(self, token: Token, offset: int) -> tuple[Values, str]:
        text, place = str(token), offset + token_start(token)
        known = any(
            text.lower().startswith(schema.id.lower() + ":") for schema in (USER.schema, *USER.extensions)
        )
        if text.lower().startswith("urn:") and not known:
            return self._foreign(text, place)
        try:
            path = parse_path(full_name(text), USER)
        except ScimError as wrong:
            raise ExpressionError(
                wrong.detail, "Use a SCIM name, such as name.givenName or emails.value.", place
            ) from None
        at, element = path.at, path.element
        if at.attribute is None or at.attribute.name in _NOT_READ:
            raise ExpressionError(
                f"'{text}' cannot be used in an expression.", "Enter one attribute of the user.", place
            )
        name, urn, multi_valued = at.attribute.name, at.urn, at.attribute.multi_valued
        sub = (
            at.sub.name
            if at.sub
            else "value"
            if at.attribute.type == "complex" and "value" in at.attribute.sub_by_name
            else None
        )
        if at.attribute.type == "complex" and sub is None:
            hint = f"Use a sub-attribute, such as {at.attribute.name}.{at.attribute.sub[0].name}."
            raise ExpressionError(f"'{text}' is a complex attribute.", hint, place)
        self.uses.add(f"{urn}:{name}" if urn else name)

        def read(user: Mapping[str, Any]) -> object:
            holder: Any = user.get(urn) or {} if urn else user
            found = holder.get(name)
            if not multi_valued:
                value = found.get(sub) if sub and isinstance(found, Mapping) else found
                return None if value in ("", [], {}) else value
            elements = [each for each in found or () if element is None or element_matches(element, each)]
            values = [each.get(sub) if sub and isinstance(each, Mapping) else each for each in elements]
            values = [each for each in values if each not in (None, "")]
            if not values:
                return None
            return values[0] if element is not None else values

        return read, f"{text}" if element is None else f"the first of {text}"

    def _foreign(self, text: str, place: int) -> tuple[Values, str]:
        """Read an attribute of an extension that some source has: its URN, a colon, its name."""
        urn, _, name = text.rpartition(":")
        name, _, sub = name.partition(".")
        if "[" in text or not name:
            raise ExpressionError(
                f"'{text}' cannot be used.",
                "Write an extension's attribute as its URN, a colon, and its name.",
                place,
            )
        self.uses.add(f"{urn}:{name}")

        def read(user: Mapping[str, Any]) -> object:
            found = (user.get(urn) or {}).get(name)
            value = found.get(sub) if sub and isinstance(found, Mapping) else found
            return None if value in ("", [], {}) or isinstance(value, Mapping) else value

        return read, text

    def _text(self, token: Token, offset: int) -> tuple[Values, str]:
        """Read a text with expressions in braces; two braces stand for one."""
        pieces: list[str | Values] = []
        words: list[str] = []
        text, start = unquoted(token, offset), offset + token_start(token) + 1
        position, plain = 0, ""
        while position < len(text):
            if text[position : position + 2] in ("{{", "}}"):
                plain, position = plain + text[position], position + 2
            elif text[position] == "{":
                end = closing(text, position, start)
                if plain:
                    pieces.append(plain)
                    words.append(f"“{plain}”")
                inner = type(self)(self.depth + 1)
                value, what = inner.read(text[position + 1 : end], start + position + 1)
                self.uses |= inner.uses
                pieces.append(value)
                words.append(what)
                plain, position = "", end + 1
            elif text[position] == "}":
                raise ExpressionError(
                    "A closing brace has no opening brace.", "Write }} for a literal brace.", start + position
                )
            else:
                plain, position = plain + text[position], position + 1
        if not pieces:
            return (lambda _: plain), f"“{plain}”"
        if plain:
            pieces.append(plain)
            words.append(f"“{plain}”")
        return _put_together(pieces), " followed by ".join(words)

    def _step(self, tree: Any, offset: int) -> tuple[functions.Step, str]:
        kind, children = str(tree.data), tree.children
        if kind == "look_up":
            rows = [tuple(row.children) for row in children]
            table = {
                unquoted(key, offset): unquoted(value, offset)
                if value.type == "TEXT"
                else functions.as_number(str(value))
                for key, value in rows
            }
            return functions.look_up(table), f"looked up in a table of {len(table)}"
        if kind in _SIMPLE:
            return _SIMPLE[kind]
        if kind == "at_most":
            most = int(float(children[0]))
            if most < 1:
                raise ExpressionError(
                    "'at most' needs a number of at least 1.",
                    "Enter the number of characters.",
                    offset + token_start(children[0]),
                )
            return functions.on_text(lambda text: text[:most]), f"at most {most} characters"
        texts = [unquoted(child, offset) for child in children]
        if kind in ("part", "replace_pattern"):
            try:
                pattern = functions.compiled(texts[0])
                step = (
                    functions.part(pattern)
                    if kind == "part"
                    else functions.replace_pattern(pattern, texts[1])
                )
            except ValueError as wrong:
                place = offset + token_start(children[0])
                raise ExpressionError(
                    f"The pattern is invalid: {wrong}.", "Use the RE2 syntax.", place
                ) from None
            return (
                step,
                f"the part that matches {texts[0]}"
                if kind == "part"
                else f"with what matches {texts[0]} replaced by “{texts[1]}”",
            )
        if kind == "replace":
            return functions.on_text(
                lambda text: text.replace(texts[0], texts[1])
            ), f"with “{texts[0]}” replaced by “{texts[1]}”"
        if kind == "join":
            return functions.join(texts[0]), f"joined with “{texts[0]}”"
        if not texts[0]:
            raise ExpressionError(
                f"'{kind.replace('_', ' ')}' needs a text that is not empty.",
                "Enter the text.",
                offset + token_start(children[0]),
            )
        made: Callable[[str], functions.Step] = getattr(functions, kind)
        return made(texts[0]), f"the text {kind.replace('_', ' the ')} “{texts[0]}”"


_SIMPLE: dict[str, tuple[functions.Step, str]] = {
    "lower": (functions.on_text(str.lower), "in lower case"),
    "upper": (functions.on_text(str.upper), "in upper case"),
    "trim": (functions.on_text(str.strip), "without surrounding spaces"),
    "plain": (functions.on_text(functions.plain), "without accents"),
    "first": (functions.pick(0), "the first of it"),
    "last": (functions.pick(-1), "the last of it"),
    "as_text": (functions.on_text(lambda text: text), "as text"),
    "as_number": (functions.as_number, "as a number"),
    "as_boolean": (functions.as_boolean, "as true or false"),
}


class _EntryCompiler(_Compiler):
    """Compiles an expression over an entry: attributes have the source's names in any letter case, and
    several values each.
    """

    asked_of = ENTRY_TYPE

    def _path(self, token: Token, offset: int) -> tuple[Values, str]:
        if "[" in token:
            hint = f"Write {str(token).partition('[')[0]}, and select among its values with steps."
            raise ExpressionError(
                "The attribute of an entry has no sub-attributes.", hint, offset + token_start(token)
            )
        return self._attribute(str(token))

    def _named(self, token: Token, offset: int) -> tuple[Values, str]:
        name = unquoted(token, offset)
        if not name.strip():
            raise ExpressionError(
                "The name of an attribute is missing.",
                "Enter the name in the quotes.",
                offset + token_start(token),
            )
        return self._attribute(name)

    def _attribute(self, name: str) -> tuple[Values, str]:
        key = fold(name.strip())
        self.uses.add(key)

        def read(entry: Mapping[str, Any]) -> object:
            found = entry.get(key)
            if not found:
                return None
            return found[0] if len(found) == 1 else found

        return read, name.strip()


def _then(value: Values, step: functions.Step) -> Values:
    def worked_on(user: Mapping[str, Any]) -> object:
        found = value(user)
        return None if found is None else step(found)

    return worked_on


def _put_together(pieces: list[str | Values]) -> Values:
    def whole(user: Mapping[str, Any]) -> object:
        found = []
        for piece in pieces:
            value = piece if isinstance(piece, str) else piece(user)
            if value is None:
                # No partial value is ever sent: if one part is missing, the result is missing.
                return None
            found.append(
                ", ".join(map(functions.text_of, value))
                if isinstance(value, list)
                else functions.text_of(value)
            )
        return "".join(found)[: functions.LONGEST]

    return whole
