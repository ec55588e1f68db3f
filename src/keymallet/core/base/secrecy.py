"""What may be quoted in a message, and what might be a secret and is only described."""

from __future__ import annotations

import re

from keymallet.core.base.listing import how_many, shortened

_SHAPES = re.compile(
    r"""
    ^\s*(?:
      \$\w{1,20}\$                      # a password as crypt(3) stores it: $y$…, $6$…
    | \{[A-Za-z0-9-]{2,20}\}\S          # as directories store it: {SSHA}…
    | -----BEGIN                        # a key in PEM
    | (?:ssh-|ecdsa-|sk-)\S+\s+AAAA     # an SSH key
    | AAAA[A-Za-z0-9+/]{20}             # its bytes
    | eyJ[A-Za-z0-9_-]{8}               # a token of JSON
    | [A-Fa-f0-9]{16,}$                 # a digest, or a key
    | [A-Z2-7]{16,}=*$                  # a seed of one-time passwords
    | \d{6,8}$                          # a one-time password
    )
    """,
    re.VERBOSE,
)
_CLASSES = (re.compile(r"[a-z]"), re.compile(r"[A-Z]"), re.compile(r"\d"))
_MAIL = re.compile(r"[^@\s]+@[\w-]+(?:\.[\w-]+)+$")
_SHORTEST = 8
"""Characters from which on a mixture of kinds is taken for a password."""


def may_be_secret(text: str) -> bool:
    """Whether a text has the shape of a password, a key, a digest or a token.

    Texts with blanks are none unless they are keys: people write those. Of what is left, small and large
    letters mixed with figures are one, unless it is a mail address.
    """
    if _SHAPES.match(text):
        return True
    bare = text.strip()
    if len(bare) < _SHORTEST or " " in bare or _MAIL.match(bare):
        return False
    return all(kind.search(bare) for kind in _CLASSES)


def quoted(text: str, *, secret: bool = False, most: int = 40) -> str:
    """The text in quotes; where it may be a secret, only how long it is."""
    if secret or may_be_secret(text):
        return f"a value of {how_many(len(text), 'character')} (not shown: it may be a secret)"
    return f'"{shortened(text, most)}"'
