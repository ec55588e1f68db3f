"""Plain lists of public keys: who is trusted to sign, which keys are revoked."""

from __future__ import annotations

from keymallet.sources.host.files import HostFiles, text_lines
from keymallet.sources.shared.public_keys import NoKeyError, read_key


def read_key_list(files: HostFiles, path: str, data: bytes, noun: str) -> set[str]:
    """The fingerprints of the keys in a file, one a line; a line that is none is refused as no `noun`."""
    keys = set()
    for number, line in text_lines(data):
        words = line.split()
        if not words or words[0].startswith("#"):
            continue
        try:
            keys.add(read_key(words[0], words[1] if len(words) > 1 else "").fingerprint)
        except NoKeyError as error:
            files.refuse("key", path, number, f"no {noun}: {error}")
    return keys
