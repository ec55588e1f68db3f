"""Builds the parser of the rule language, which ships built: see `core/language/parse.py`."""

from __future__ import annotations

from pathlib import Path

from keymallet.core.language import parse

FOLDER = Path(parse.__file__).parent


def main() -> None:
    """Write it beside the grammar."""
    grammar = (FOLDER / "grammar.lark").read_text("utf-8")
    with (FOLDER / parse.BUILT).open("wb") as file:
        file.write(parse.built_of(grammar) + b"\n")
        parse.build(grammar).save(file)


if __name__ == "__main__":
    main()
