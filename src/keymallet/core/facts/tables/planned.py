"""The table of accounts that are about to be made: what only a batch that is not loaded yet can tell."""

from __future__ import annotations

from keymallet.core.facts.model import Column, Kind, KnownBy, Table
from keymallet.core.facts.tables.columns import ACCOUNT_REFERENCE, beside_secrets, flag, text

GUESSABLE_BY = "common name organisation season month year keyboard login counting"
"""What a first password can be guessed by."""


def _seen(name: str, kind: Kind, meaning: str, said: str, words: str = "") -> Column:
    """What only shows when a planned account is held against the others, and against what exists."""
    return Column(name, kind, meaning, tuple(words.split()), across=True, said=said)


PLANNED = Table(
    "planned",
    "one row for each account of a batch that is about to be made; keymallet vet reads them",
    (
        ACCOUNT_REFERENCE,
        beside_secrets(
            text(
                "password",
                "the first password; it is looked at and never kept",
                said="first password {} / no first password on record",
            )
        ),
        flag(
            "sent-with-login",
            "the first password goes out in the same message as the login name",
            said="sent together with the login name / sent apart from the login name",
        ),
        _seen(
            "missing",
            Kind.WORDS,
            "facts that the target requires and the row does not give",
            "missing: {} / nothing required is missing",
        ),
        _seen(
            "damaged",
            Kind.WORDS,
            "facts whose text lost letters to a wrong encoding",
            "letters lost in: {} / no letters lost to a wrong encoding",
        ),
        _seen(
            "not-taken",
            Kind.WORDS,
            "facts that the target would refuse or cut as they are written, and why",
            "the target does not take {} / the target takes it as it is written",
        ),
        _seen(
            "in-order",
            Kind.FLAG,
            "the row stands where the target, which reads rows in order, looks for it",
            "stands in order / stands out of order: the target passes it over",
        ),
        _seen(
            "name-taken-by",
            Kind.WORDS,
            "accounts of the target that have its login name already",
            "taken by {} / free",
        ),
        _seen(
            "name-used-before",
            Kind.FLAG,
            "an account that is gone from the target had its login name",
            "used before by an account that is gone / never used before",
        ),
        _seen(
            "name-again",
            Kind.COUNT,
            "how many other rows of the batch have its login name",
            "stands in {} other row / stands in {} other rows",
        ),
        _seen(
            "name-fits",
            Kind.FLAG,
            "its login name follows the target's pattern",
            "follows the pattern / does not follow the pattern",
        ),
        _seen(
            "mail-taken-by",
            Kind.WORDS,
            "accounts of others, in any source, that have its mail address",
            "taken by {} / free",
        ),
        _seen(
            "mail-again",
            Kind.COUNT,
            "how many other rows of the batch have its mail address",
            "stands in {} other row / stands in {} other rows",
        ),
        _seen(
            "id-taken-by",
            Kind.WORDS,
            "accounts of the target that have its lasting id already",
            "taken by {} / free",
        ),
        _seen(
            "id-again",
            Kind.COUNT,
            "how many other rows of the batch have its lasting id",
            "stands in {} other row / stands in {} other rows",
        ),
        _seen(
            "person-again",
            Kind.COUNT,
            "how many other rows of the batch are for the same person",
            "{} other row for the same person / {} other rows for the same person",
        ),
        _seen(
            "person-has",
            Kind.WORDS,
            "accounts that its person has in the target already",
            "its person already has {} / its person has no account in the target",
        ),
        _seen(
            "unit-known",
            Kind.FLAG,
            "some account or somebody on the staff list is of its unit",
            "known / no account and nobody on the staff list is of this unit",
        ),
        _seen(
            "manager-known",
            Kind.FLAG,
            "its manager is an account, somebody on the staff list, or in the batch itself",
            "known / no account and nobody on the staff list is called so",
        ),
        _seen(
            "owner-known",
            Kind.FLAG,
            "its owner is an account, somebody on the staff list, or in the batch itself",
            "known / no account and nobody on the staff list is called so",
        ),
        _seen(
            "groups-unknown",
            Kind.WORDS,
            "groups asked for that no account of the target is in",
            "no account of the target is in {} / every group it is to be in has members",
        ),
        _seen(
            "groups-of-power",
            Kind.WORDS,
            "groups through which accounts of the target hold privilege, or whose members all hold some",
            "privilege comes with {} / no group that brings privilege",
        ),
        _seen(
            "groups-missing",
            Kind.WORDS,
            "groups that the target gives to accounts like it, and that it lacks",
            "lacking: {} / nothing is lacking",
        ),
        _seen(
            "groups-surplus",
            Kind.WORDS,
            "groups that the target does not give to accounts like it",
            "beyond what accounts like it get: {} / nothing beyond what accounts like it get",
        ),
        _seen(
            "entitlements-missing",
            Kind.WORDS,
            "licences that the target gives to accounts like it, and that it lacks",
            "lacking: {} / nothing is lacking",
        ),
        _seen(
            "entitlements-surplus",
            Kind.WORDS,
            "licences that the target does not give to accounts like it; they cost money",
            "beyond what accounts like it get: {} / nothing beyond what accounts like it get",
        ),
        _seen(
            "initial-length",
            Kind.COUNT,
            "how many characters its first password has",
            "{} character / {} characters",
        ),
        _seen(
            "initial-classes",
            Kind.COUNT,
            "of how many classes they are: small letters, capitals, digits, others",
            "{} class of characters / {} classes of characters",
        ),
        _seen(
            "initial-strength",
            Kind.COUNT,
            "about how many guesses it takes to find the first password, as a power of ten, rounded down",
            "found in about 10^{} guess / found in about 10^{} guesses",
        ),
        _seen(
            "initial-guessable",
            Kind.WORDS,
            "what the first password can be guessed by",
            "guessable by {} / guessable by nothing that was looked for",
            GUESSABLE_BY,
        ),
        _seen(
            "initial-shared-with",
            Kind.WORDS,
            "other rows with the same first password; at most ten are named",
            "the same as that of {} / shared with no other row",
        ),
        _seen(
            "initial-pattern-with",
            Kind.COUNT,
            "how many other rows have a first password of the same pattern with another number in it",
            "of the same pattern as {} other row / of the same pattern as {} other rows",
        ),
    ),
    known_by=KnownBy(),
    said="planned account / planned accounts",
)
