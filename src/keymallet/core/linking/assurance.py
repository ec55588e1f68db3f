"""The authentication assurance level that proofs shown together reach.

By the types of authenticators and the levels of NIST SP 800-63B-4, sections 2 and 3, from knowledge: the
standard's own text decides. What is told of an account does not say how well a product was made or a person
was proven, so a level is the most that can be reached this way, never that it was reached.
"""

from __future__ import annotations

from collections.abc import Collection

KNOWN = frozenset({"password"})
"""Something one knows."""
SOME_SECOND = "second-factor"
"""A second factor of which a source says no more than that there is one."""
HELD = frozenset({"otp", "push", "sms", "voice", "software-key", "hardware-key", "passkey", "smartcard"})
"""Something one has. A biometric alone, a code for recovery and mail are neither."""
PROVES_ITSELF = frozenset({"passkey", "smartcard"})
"""Something one has that asks for a PIN or a biometric before it proves anything: two factors in one."""
IN_HARDWARE = frozenset({"hardware-key", "smartcard"})
NO_SIGN_IN = frozenset({"session"})
"""What only goes on with a sign-in that was proven before: it has no level of its own."""


def assurance_level(takes: Collection[str], *, is_bound: bool, asks_pin: bool, is_empty: bool) -> int | None:
    """The level that proofs shown together reach: 0 to 3; None where that is not theirs to tell.

    `is_bound`: the key among them cannot be copied. `asks_pin`: a hardware key asks for a PIN or a biometric,
    as one that is enough alone has to. `is_empty`: the password among them is empty, and proves nothing.
    """
    shown = set(takes) - (KNOWN if is_empty else set())
    if shown & NO_SIGN_IN:
        return None
    if not shown:
        return 0
    knows = bool(shown & KNOWN) or bool(shown & PROVES_ITSELF) or (asks_pin and "hardware-key" in shown)
    if not (knows and shown & (HELD | {SOME_SECOND})):
        return 1
    resistant = shown & (IN_HARDWARE | {"passkey"})
    return 3 if resistant and is_bound else 2
