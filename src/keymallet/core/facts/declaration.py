"""The declaration of every fact table: column, type, meaning, words.

Readers fill these tables, rules read them, `keymallet dictionary` prints them. A column that is
*derived* carries its definition in the rule language itself, so that it is judged and explained
like any other expression.
"""

from __future__ import annotations

from dataclasses import replace

from keymallet.core.facts.model import Column, Derivation, Kind, Table


def _flag(name: str, meaning: str, definition: str = "", always: bool = False) -> Column:
    how = Derivation.ALWAYS if always else Derivation.UNLESS_KNOWN
    return Column(name, Kind.FLAG, meaning, definition=definition, derivation=how)


def _text(name: str, meaning: str) -> Column:
    return Column(name, Kind.TEXT, meaning)


def _count(name: str, meaning: str) -> Column:
    return Column(name, Kind.COUNT, meaning)


def _word(name: str, meaning: str, words: str) -> Column:
    return Column(name, Kind.WORD, meaning, tuple(words.split()))


def _words(name: str, meaning: str, words: str = "") -> Column:
    return Column(name, Kind.WORDS, meaning, tuple(words.split()))


def _past(name: str, meaning: str) -> Column:
    return Column(name, Kind.INSTANT, meaning, past=True)


def _instant(name: str, meaning: str) -> Column:
    return Column(name, Kind.INSTANT, meaning)


def _closes(name: str, meaning: str) -> Column:
    return Column(name, Kind.INSTANT, meaning, closes=True)


def _span(name: str, meaning: str) -> Column:
    return Column(name, Kind.SPAN, meaning)


def _beside_secrets(column: Column) -> Column:
    return replace(column, secret=True)


_FACTOR_KINDS = (
    "password otp push sms voice email hardware-key passkey software-key smartcard biometric recovery-codes"
)
_TAKEN_KEYS = "api-key app-password entry-code invitation reset-link session"
"""Keys that are no factor: what is shown is the key itself."""
_WHERE_PEOPLE_STAND = "expected present away left"


def _answering(fact: str, who: str) -> tuple[Column, Column]:
    """Where the person stands whom a fact of an account names, and when they leave."""
    words = tuple(_WHERE_PEOPLE_STAND.split())
    return (
        Column(f"{fact}-status", Kind.WORD, f"where {who} stands, by the roster", words, across=True),
        Column(f"{fact}-leaves", Kind.INSTANT, f"when {who} leaves, by the roster", across=True),
    )


_ACCOUNT_REFERENCE = _text("account", "the account the row belongs to, as source/name")

_KEY_KINDS = (
    "api-key ssh-key ssh-certificate certificate app-password entry-code invitation reset-link session"
)
_SECOND_FACTOR = """
some factor (state = active and kind in [otp, push, sms, voice, hardware-key, passkey, smartcard])
or surely(some way-in (by-password and key is known and taken and state = active))
or federated and proven-with includes any of [otp, push, sms, voice, hardware-key, passkey, smartcard]
"""
_RESISTANT_FACTOR = """
some factor (phishing-resistant and state = active)
or federated and proven-with includes any of [hardware-key, passkey, smartcard]
"""
_USABLE = "some way-in (open)"
_OPEN = """
account.enabled and not surely(until(account.starts) > 0s)
and (account.ends is unknown or until(account.ends) > 0s)
and not surely(until(account.password-lapses) <= 0s)
and taken and state = active and not surely(until(starts) > 0s)
and (expires is unknown or until(expires) > 0s)
and (not by-password or account.has-password and not surely(account.password-locked))
and (not account.locked or not by-password and surely(account.lock-stops = password))
"""
_PRIVILEGED = """
some grant (privileged and mode = standing and holds)
or some elevation (outcome = opened and not by-own-right and age(starts) >= 0s and until(ends) > 0s
                   and closed is unknown)
"""
_HOLDS = "not surely(until(starts) > 0s) and not surely(until(ends) <= 0s)"
"""A right of which nobody says when it begins or ends is held: it is on the list."""
_HOLDS_POWER = "privileged or surely(some grant (privileged and mode = on-request and holds))"
_FOR_PEOPLE = """
surely(interactive) or not surely(not interactive) and kind in [person, guest, shared]
"""
_KEY_USABLE = "state = active and not surely(until(starts) > 0s) and not surely(until(expires) <= 0s)"
_HAS_PASSWORD = """
has-password or surely(password-empty) or not surely(not has-password) and surely(password-changed is known)
"""
"""Where nobody says whether there is a password, the day on which it was set does."""
_LOCKED = """
locked and not surely(until(locked-until) <= 0s) or surely(until(password-lapses) <= 0s)
"""
_RESISTANT = "kind in [hardware-key, passkey, smartcard]"

ACCOUNT = Table(
    "account",
    "one row for each account in each source",
    (
        _text("account", "source/name: the key that all other tables refer to"),
        _text("source", "the source's name in the estate file"),
        _text("stable-id", "the source's own lasting id; follows renames"),
        _text("name", "the login name"),
        _text("display", "the name shown to people"),
        _text("mail", "mail address"),
        _text("person", "the person's number in the roster"),
        Column(
            "tied-by", Kind.TEXT, "what told whose it is: the number in the source, or a tie", across=True
        ),
        Column("on-roster", Kind.FLAG, "its person stands in the staff roster", across=True),
        _text("owner", "who answers for an account that is no person's"),
        *_answering("owner", "its owner"),
        _word("kind", "whose or what it is", "person guest service shared system emergency"),
        _text("unit", "the part of the organisation it belongs to"),
        _text("title", "the job it is held for"),
        _text("manager", "whom it answers to"),
        *_answering("manager", "whom it answers to"),
        _text("location", "where it is used"),
        _flag("built-in", "it came with the system"),
        _words("allowed-hours", "when it may be used, by the estate's clock, such as mon-fri 07:00-19:00"),
        _past("reviewed", "when somebody last confirmed that its access is still right"),
        _flag("enabled", "the administrator's own switch"),
        _flag("interactive", "a person could open a session with it (shell, console sign-in)"),
        _flag(
            "for-people",
            "people sign in with it: it is interactive, or of their kind where its source does not tell",
            _FOR_PEOPLE,
            always=True,
        ),
        _past("created", "when it was made"),
        _instant("starts", "first instant at which it can be used"),
        _closes("ends", "first instant at which it can no longer be used"),
        _past("last-sign-in", "newest successful sign-in known"),
        Column(
            "awaited-since",
            Kind.INSTANT,
            "when it was made, if nobody has signed in to it yet",
            past=True,
            across=True,
        ),
        _flag("privileged", "holds at least one privileged grant now, standing or opened", _PRIVILEGED),
        _flag(
            "holds-power",
            "it is privileged, or may open privilege when asked for",
            _HOLDS_POWER,
            always=True,
        ),
        _words("entitlements", "what it is licensed for"),
        _words("labels", "free labels"),
        _words("groups", "all its groups, nested ones included"),
        Column("twins", Kind.WORDS, "the same account in systems paired with its own", across=True),
        Column("no-twin-in", Kind.WORDS, "paired systems in which it is missing", across=True),
        Column("twin-differs", Kind.WORDS, "facts in which a twin differs from it, and how", across=True),
        Column(
            "federated",
            Kind.FLAG,
            "it has no password of its own: its sign-ins are proven by another system",
            across=True,
        ),
        Column("proven-by", Kind.TEXT, "the account of another system that proves its sign-ins", across=True),
        Column(
            "proven-with",
            Kind.WORDS,
            "the factors that work at the account that proves it",
            tuple(_FACTOR_KINDS.split()),
            across=True,
        ),
        Column("covered-by", Kind.WORDS, "gates in force that ask it for something", across=True),
        Column("left-out-by", Kind.WORDS, "gates in force that cover it and leave it out", across=True),
        Column(
            "left-out-unregistered",
            Kind.WORDS,
            "gates in force that leave it out, and that no entry of the register in force names for it",
            across=True,
        ),
        Column("exempted-by", Kind.WORDS, "entries of the register in force that cover it", across=True),
        Column("drilled", Kind.INSTANT, "when it was last tried, by the register", past=True, across=True),
        Column(
            "use-explained",
            Kind.FLAG,
            "its last sign-in falls within a use or a drill that the register records",
            across=True,
        ),
        Column("watched", Kind.FLAG, "by the register somebody is told when it is used", across=True),
        Column("watched-by", Kind.WORDS, "gates that would ask it, but only watch", across=True),
        _flag(
            "second-factor-registered",
            "it has a second factor that works: not a key that is taken instead of the password",
            _SECOND_FACTOR,
        ),
        _flag(
            "phishing-resistant-registered",
            "it has a factor that works and cannot be relayed by a false site",
            _RESISTANT_FACTOR,
        ),
        _flag("second-factor-enforced", "its system itself says that it asks it for a second factor"),
        Column(
            "second-factor-required",
            Kind.FLAG,
            "it is asked for a second factor, whatever it signs in to: by a gate in force, or by its system",
            across=True,
        ),
        Column(
            "phishing-resistant-required",
            Kind.FLAG,
            "a gate in force asks it for what cannot be relayed by a false site, whatever it signs in to",
            across=True,
        ),
        Column(
            "accepted-factors",
            Kind.WORDS,
            "the second factors that every gate which asks it for one accepts",
            tuple("otp push sms voice software-key hardware-key passkey smartcard".split()),
            across=True,
        ),
        _beside_secrets(
            _flag("has-password", "there is a password; an empty one counts", _HAS_PASSWORD, always=True)
        ),
        _beside_secrets(_flag("password-empty", "the password is empty: anybody gets in")),
        _beside_secrets(_flag("password-optional", "its system would take an empty password for it")),
        _beside_secrets(
            _flag("password-readable", "its system keeps the password so that it can be read back")
        ),
        _beside_secrets(_flag("password-locked", "the password is barred; other ways in are not")),
        _beside_secrets(
            _word(
                "password-scheme",
                "how the password is stored",
                "argon2 yescrypt bcrypt scrypt pbkdf2 sha512 sha256 md5 des other",
            )
        ),
        _beside_secrets(
            _text("password-digest", "digest of how the password is stored, to see copies; not kept")
        ),
        Column(
            "password-shared-with",
            Kind.WORDS,
            "accounts of other people with the very same password; at most ten are named",
            across=True,
        ),
        _past("password-changed", "when the password was last set"),
        Column(
            "password-set-with",
            Kind.COUNT,
            "how many others of its source had theirs set in the same hour, or on the same day where only"
            " days are told, beyond what is usual there",
            across=True,
        ),
        _flag("password-must-change", "the next sign-in has to set a new one"),
        _flag("password-never-expires", "the source never asks for a new one"),
        _closes("password-expires", "when the source itself stops accepting the password"),
        _closes("password-lapses", "when the source bars the account because no new password was set"),
        _flag("initial-password", "still the password that was handed out"),
        _flag("remote-password", "the system takes a password over the network, given there is one"),
        _flag("remote-key", "the system takes a key over the network, given there is one"),
        _words(
            "remote-together",
            "what it takes over the network only together, one proof after the other",
            "key-and-password two-keys two-keys-and-password",
        ),
        _flag("locked", "locked at the instant judged", _LOCKED, always=True),
        _word("lock-cause", "what locked it", "failed-attempts administrator inactivity other"),
        _word("lock-stops", "what the lock stops; unknown: every way in", "everything password"),
        _past("locked-since", "since when it is locked"),
        _closes("locked-until", "when the lock ends by itself; unknown: not until somebody unlocks it"),
        _count("failed-attempts", "failed sign-ins that count towards a lock"),
        Column(
            "locked-before", Kind.COUNT, "how often failures locked it, by the sign-ins kept", across=True
        ),
        _past("last-failed", "newest failed sign-in known"),
        _flag(
            "usable",
            "some way into it is open",
            _USABLE,
            always=True,
        ),
    ),
    owner="person",
    label=("name", "display", "unit"),
    told_by="name",
)

FACTOR = Table(
    "factor",
    "what proves a sign-in, one row each",
    (
        _ACCOUNT_REFERENCE,
        _word("kind", "what sort of proof", _FACTOR_KINDS),
        _text("amr", "authentication method reference value (RFC 8176)"),
        _past("registered", "when it was enrolled"),
        _past("last-used", "when it last proved a sign-in"),
        _word("state", "whether it works", "active suspended pending"),
        _flag("phishing-resistant", "cannot be relayed by a false site", _RESISTANT),
        _flag("exportable", "it can be copied to other devices, as a synced passkey is"),
        _text("label", "what its owner calls it"),
        _text("device", "digest or serial of the device it is on, for seeing what is shared"),
        Column(
            "shared-with",
            Kind.WORDS,
            "accounts of other people that the same device proves; at most ten are named",
            across=True,
        ),
    ),
    label=("kind", "state"),
)

KEY = Table(
    "key",
    "secrets that work on their own, one row each",
    (
        _ACCOUNT_REFERENCE,
        _beside_secrets(_text("key", "its public id")),
        _word(
            "kind",
            "what sort of secret",
            _KEY_KINDS,
        ),
        _past("issued", "when it was made"),
        _instant("starts", "first instant at which it works"),
        _closes("expires", "first instant at which it no longer works"),
        _past("last-used", "when it was last used"),
        _word("state", "whether it works", "active inactive revoked used"),
        _count("uses-left", "how often it can still be used"),
        _text("algorithm", "the algorithm of the key"),
        Column("bits", Kind.COUNT, "size of the key in bits"),
        _beside_secrets(_text("digest", "digest of the public part, for seeing what is shared")),
        Column(
            "shared-with",
            Kind.WORDS,
            "accounts of other people that the same key opens; at most ten are named",
            across=True,
        ),
        Column("shared-with-root", Kind.FLAG, "the same key opens a root account", across=True),
        _flag("usable", "it works at the instant judged", _KEY_USABLE, always=True),
        _text("superseded-by", "the id of the one that replaces it"),
        _text("scope", "what it may be used for"),
        _text("label", "what its owner calls it"),
    ),
    label=("kind", "key"),
)

GRANT = Table(
    "grant",
    "what an account may do, one row each",
    (
        _ACCOUNT_REFERENCE,
        _text("role", "what it may do"),
        _flag("privileged", "the role is one of power over others' accounts or systems"),
        _word("mode", "held all the time, or only when asked for", "standing on-request"),
        _text("via", "direct, or the group path it comes through"),
        _text("scope", "what it covers, such as which commands"),
        _flag("asks-proof", "using it asks to prove again who one is, such as by password"),
        _instant("starts", "first instant at which it holds"),
        _closes("ends", "first instant at which it no longer holds"),
        _flag("holds", "it is held at the instant judged", _HOLDS, always=True),
        _text("assigned-by", "who gave it"),
        Column("last-opened", Kind.INSTANT, "when the right was last made use of", past=True, across=True),
    ),
    label=("role", "via"),
)

ELEVATION = Table(
    "elevation",
    "each time privilege was asked for or opened",
    (
        _ACCOUNT_REFERENCE,
        _text("elevation", "its id"),
        _text("role", "the privilege asked for"),
        _past("asked", "when it was asked for"),
        _past("approved", "when it was approved"),
        _text("approved-by", "who approved it"),
        _text("reason", "why it was asked for"),
        _text("ticket", "the ticket it was asked under"),
        _instant("starts", "when it opens"),
        _closes("ends", "when it was planned to close"),
        _past("closed", "when it really closed"),
        _words("proof", "factor kinds shown", _FACTOR_KINDS),
        _word("outcome", "what became of it", "opened refused lapsed waiting"),
        _flag("by-own-right", "nobody had to be asked: a standing right was used, as with sudo", "false"),
        Column("lasted", Kind.SPAN, "from its start until it was closed, or is planned to be", across=True),
        Column("stretch", Kind.SPAN, "the unbroken stretch of openings that it is part of", across=True),
        Column(
            "opened-in-week",
            Kind.SPAN,
            "how long the account was open in the week up to its end",
            across=True,
        ),
        Column("approves-itself", Kind.FLAG, "approved by the person who asked", across=True),
        Column("hollow-reason", Kind.FLAG, "its reason says nothing: empty, short, filler", across=True),
        Column("same-reason", Kind.COUNT, "how many other openings have the very same reason", across=True),
        Column("entitled", Kind.FLAG, "the right to ask for it held when it was opened", across=True),
    ),
    label=("elevation", "role"),
)

SIGN_IN = Table(
    "sign-in",
    "sign-in events, where a source has them",
    (
        _ACCOUNT_REFERENCE,
        _past("at", "when"),
        _word("outcome", "whether it succeeded", "success failure"),
        _text("cause", "why it failed"),
        _words("proof", "factor kinds shown", _FACTOR_KINDS),
        _text("origin", "where it came from"),
        Column("in-opening", Kind.FLAG, "privilege was opened for the account at the time", across=True),
        Column("explained", Kind.FLAG, "the register records a use or a drill at the time", across=True),
        Column(
            "outside-hours", Kind.FLAG, "it lies outside the hours that its account is allowed", across=True
        ),
    ),
    label=("outcome", "origin"),
)

WAY_IN = Table(
    "way-in",
    "each way to sign in to an account: what is shown together on it, and whether it is open",
    (
        _ACCOUNT_REFERENCE,
        Column("key", Kind.TEXT, "the public id of the key it begins with", secret=True, across=True),
        Column(
            "over",
            Kind.WORD,
            "where it leads in: network, console, service (programs), federation (proven by another system)",
            ("network", "console", "service", "federation"),
            across=True,
        ),
        Column(
            "takes",
            Kind.WORDS,
            "what has to be shown, all of it together",
            tuple(f"{_FACTOR_KINDS} second-factor {_TAKEN_KEYS}".split()),
            across=True,
        ),
        Column("by-password", Kind.FLAG, "the account's own password is part of it", across=True),
        Column("taken", Kind.FLAG, "the system takes this there", across=True),
        Column(
            "state",
            Kind.WORD,
            "whether the key or factor works; of several, the worst",
            tuple("active suspended pending inactive revoked used".split()),
            across=True,
        ),
        Column("starts", Kind.INSTANT, "first instant at which it works", across=True),
        Column("expires", Kind.INSTANT, "first instant at which it no longer works", across=True),
        Column(
            "assurance",
            Kind.COUNT,
            "the authentication assurance level that it reaches by NIST SP 800-63B-4; 0: nothing is proven",
            across=True,
        ),
        Column("proven-by", Kind.TEXT, "the account of another system that proves it", across=True),
        _flag("open", "somebody gets in this way at the instant judged", _OPEN, always=True),
    ),
    label=("over", "takes", "key"),
    across=True,
)

GATE = Table(
    "gate",
    "sign-in requirements configured in a system",
    (
        _text("gate", "its name"),
        _text("source", "the source's name in the estate file"),
        _word("state", "whether it is in force", "in-force on-trial off"),
        _words("asks-for", "what it asks for", _FACTOR_KINDS + " any-second phishing-resistant"),
        _words("covers", "accounts, groups, kinds or everyone"),
        _words("leaves-out", "accounts, groups or kinds it does not ask"),
        _words("applications", "what it guards; none named: everything"),
        Column("asks-accounts", Kind.COUNT, "how many enabled accounts it covers and asks", across=True),
        Column("leaves-out-accounts", Kind.COUNT, "how many enabled accounts it leaves out", across=True),
        Column("names-nobody", Kind.WORDS, "what it names that is no account, group or kind", across=True),
    ),
    owner="",
    label=("gate",),
)

SETTING = Table(
    "setting",
    "a password, lockout or session policy in force in a system",
    (
        _text("setting", "its name"),
        _text("source", "the source's name in the estate file"),
        _words("applies-to", "accounts, groups, kinds or everyone"),
        _count("min-length", "shortest password accepted, characters"),
        _count("classes", "character classes asked for"),
        _flag("letters-and-digits", "both letters and digits are asked for"),
        _count("history", "how many earlier passwords are refused"),
        _span("max-age", "how long a password lasts"),
        _span("min-age", "how long a password must be kept"),
        _span("warn-before", "how long before the end a warning is given"),
        _count("lock-after", "failed attempts that lock; none: it never locks"),
        _span("lock-for", "how long a lock lasts; none: until somebody unlocks it"),
        _span("count-within", "the stretch in which failures are counted together"),
        _span("idle-limit", "how long a session may idle"),
        _span("session-limit", "how long a session may last"),
        _flag("first-use-change", "a password handed out must be changed at first use"),
        _flag("remote-password", "passwords are taken over the network"),
        _word("remote-root", "how root may sign in over the network", "no forced-command key yes"),
        _span("elevation-limit", "how long opened privilege may last"),
    ),
    owner="",
    label=("setting",),
)

PERSON = Table(
    "person",
    "the staff roster",
    (
        _text("person", "the person's number"),
        _text("name", "the person's name"),
        _text("mail", "mail address"),
        _text("unit", "the part of the organisation"),
        _text("manager", "the number of the manager"),
        _word("status", "where the person stands", _WHERE_PEOPLE_STAND),
        _instant("joins", "first day"),
        _closes("leaves", "first instant after the last day"),
        _word("contract", "kind of contract", "staff contractor temporary external"),
    ),
    owner="",
    label=("person", "name", "unit"),
)

EXEMPTION = Table(
    "exemption",
    "the register of exclusions",
    (
        _text("exemption", "its id"),
        _word("kind", "why it exists", "emergency technical accepted-risk transition"),
        _words("accounts", "patterns of the accounts it covers"),
        _words("rules", "patterns of the rules it covers"),
        _words("gates", "patterns of the gates that may leave its accounts out"),
        _text("reason", "why"),
        _text("asked-by", "who asked"),
        _text("approved-by", "who approved"),
        _instant("from", "first instant at which it holds"),
        _closes("until", "first instant at which it no longer holds"),
        _past("reviewed", "when it was last reviewed"),
        _span("review-every", "how often it has to be reviewed"),
        _past("drilled", "last time an emergency account was tried"),
        _words("watch", "who is told when it is used"),
        _text("safeguards", "what limits the harm meanwhile"),
        _count("matched", "how many accounts its patterns matched when it was approved"),
        Column("covers", Kind.COUNT, "how many accounts its patterns match", across=True),
        Column("excuses", Kind.COUNT, "how many breaches it covers, whether in force or not", across=True),
        Column("names-nobody", Kind.WORDS, "patterns of accounts that match none", across=True),
        Column("names-no-rule", Kind.WORDS, "patterns of rules that match none", across=True),
        Column("names-no-gate", Kind.WORDS, "patterns of gates that match none", across=True),
        Column("approves-itself", Kind.FLAG, "approved by whom it covers, or who asked", across=True),
        Column("hollow-reason", Kind.FLAG, "its reason says nothing: empty, filler", across=True),
    ),
    owner="",
    label=("exemption",),
)

TABLES: dict[str, Table] = {
    table.name: table
    for table in (
        ACCOUNT,
        FACTOR,
        KEY,
        GRANT,
        ELEVATION,
        SIGN_IN,
        WAY_IN,
        GATE,
        SETTING,
        PERSON,
        EXEMPTION,
    )
}


TOLD_TABLES = {name: table for name, table in TABLES.items() if not table.across}
"""The tables whose rows sources give."""


def words_of(table: Table, name: str) -> tuple[str, ...]:
    """The words of a column's closed set."""
    column = table.column(name)
    assert column is not None, f"{table.name} has no {name}"
    return column.words


def tables_of_account() -> tuple[Table, ...]:
    """The tables whose rows belong to an account."""
    return tuple(table for table in TABLES.values() if table.of_account)


def tables_with_verdicts() -> tuple[Table, ...]:
    """The tables that `each` of a rule may name: a rule gives one verdict for each of their rows.

    These are people, accounts, all that belongs to an account, entries of the register, and what a source
    has in force (its settings and gates).
    """
    return tuple(
        table
        for table in TABLES.values()
        if table.of_account or table in (PERSON, EXEMPTION) or "source" in table.names
    )


def owned_tables() -> tuple[Table, ...]:
    """The tables that a rule can ask `some …` about: accounts of a person, and what is an account's."""
    return tuple(table for table in TABLES.values() if table.owner)


def way_to_owner(table: Table, owner: str) -> tuple[Table, ...] | None:
    """The tables to go through from a row to the row of `owner` it belongs to; None: to none.

    From a key to its person: key, account. From an account to its account: nowhere.
    """
    way: list[Table] = []
    while table.name != owner:
        if not table.owner:
            return None
        way.append(table)
        table = TABLES[table.owner]
    return tuple(way)
