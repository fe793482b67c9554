"""What is wrong with a request, in our own words instead of the checking library's."""

from __future__ import annotations

from collections.abc import Mapping

from pydantic import ValidationError


def what_is_wrong(error: ValidationError, renamed: Mapping[str, str] | None = None) -> str:
    """The first thing wrong with a request, as a sentence; ``renamed`` are fields that go by other names."""
    first = error.errors(include_url=False)[0]
    rule, about = first["type"], first.get("ctx", {})
    if rule == "value_error":
        said = first["msg"].removeprefix("Value error, ")
    elif rule == "string_too_short" and about["min_length"] == 1:
        said = "must not be empty"
    elif rule in _SAID:
        said = _SAID[rule].format_map({k: f"{v:g}" if isinstance(v, float) else v for k, v in about.items()})
    else:
        said = first["msg"][:1].lower() + first["msg"][1:]
    where = tuple((renamed or {}).get(part, part) if isinstance(part, str) else part for part in first["loc"])
    return f"{in_words(where)} {said}."


def in_words(where: tuple[int | str, ...]) -> str:
    """The place of a value in a request, as a sentence begins with it."""
    parts = [
        f"number {part + 1}" if isinstance(part, int) else " ".join(_WRITTEN.get(w, w) for w in part.split("_"))
        for part in where
    ]
    words = ", ".join(parts) or "the request"
    return words[0].upper() + words[1:]


_WRITTEN = {
    "csv": "CSV",
    "dscp": "DSCP",
    "ipv6": "IPv6",
    "kbps": "kbit/s",
    "mos": "MOS",
    "pct": "%",
    "pppoe": "PPPoE",
    "ptime": "packet interval,",
    "srtp": "SRTP",
    "vlan": "VLAN",
}
_SAID = {
    "missing": "is missing",
    "extra_forbidden": "is not known here",
    "string_type": "must be text",
    "string_unicode": "must be text",
    "string_too_short": "must have at least {min_length} characters",
    "string_too_long": "must have at most {max_length} characters",
    "too_short": "must have at least {min_length} entries",
    "too_long": "must have at most {max_length} entries",
    "int_type": "must be a whole number",
    "int_parsing": "must be a whole number",
    "int_parsing_size": "must be a smaller number",
    "int_from_float": "must be a whole number",
    "float_type": "must be a number",
    "float_parsing": "must be a number",
    "finite_number": "must be a number",
    "bool_type": "must be true or false",
    "bool_parsing": "must be true or false",
    "greater_than": "must be more than {gt}",
    "greater_than_equal": "must be at least {ge}",
    "less_than": "must be less than {lt}",
    "less_than_equal": "must be at most {le}",
    "literal_error": "must be {expected}",
    "list_type": "must be a list",
    "dict_type": "must be an object",
    "model_type": "must be an object",
    "model_attributes_type": "must be an object",
}
"""What breaking each of pydantic's rules is called here."""
