"""What happens at the railway in the four weeks besides that time passes, and what that has to bring about.

People leave, one in time and one too late; two guests' accounts are deleted; somebody is renamed; a key is
renewed; factors are enrolled and passwords changed; a limit is tightened; an exemption ends; the export of
the cloud service is not there once; a machine's console is shut, and opened again.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from keymallet.core.history.states import Cause, State
from keymallet.demo.accounts import AT, Account, Key
from keymallet.demo.model import Finding, Model
from keymallet.demo.onsets import GRACE
from keymallet.demo.people import Person
from keymallet.demo.weeks import instant_of

ENROLLED = ("m.murmmairin", "b.arvacher", "q.laerchwald")
"""They have a second factor from the third week on."""
CHANGED = ("g.nebelhofner", "i.quellwald")
"""They have a new password from the third week on; the one before was more than a year old."""
LEFT_IN_TIME, LEFT_TOO_LATE = ("s.moostaler", "r.mooswald"), "g.jochkogler"
"""They left in the second week. The account of the last was shut only in the third."""
DELETED = ("guest-survey-1", "guest-survey-2")
"""Their accounts were deleted after the second week."""
MARRIED, HER_FORMER_LOGIN, HER_FORMER_NAME = "h.nebelacher", "h.moosegger", "Hedda Moosegger"
"""Renamed after the second week."""
RENEWED, FORMER_KEY = "svc-signals-3", "GVR-K-0043"
"""Its key was renewed in the last week, when the one before had been too old for two."""
CONSOLE = "svc-display-1"
"""Shut in the second week, and opened again in the fourth."""
EXEMPT = "lineside-tablets"
"""The entry of the register that ends after the second week, and is taken out after the third."""
CLOUD_MISSING = 2
"""The week in which the export of the cloud service is not there."""
TIGHTENED = 3
"""From this week on passwords are good for half a year, not for a whole one."""


def password_age(week: int) -> timedelta:
    """How long passwords are good for in a week."""
    return timedelta(days=180 if week >= TIGHTENED else 365)


def tell(model: Model) -> None:
    """Put into the railway of the last week what the stories leave behind in it."""
    for login in ENROLLED:
        factor = model.account(login).factors[1]
        factor.enrolled, factor.last_used = AT - timedelta(days=9, hours=2), AT - timedelta(days=1, hours=1)
    for number, login in enumerate(CHANGED):
        model.account(login).password_set = AT - timedelta(days=8 + number, hours=3)
    for login in (*LEFT_IN_TIME, LEFT_TOO_LATE):
        account = model.account(login)
        account.last_sign_in = AT - timedelta(days=18, hours=2)
        _person(model, account).leaves = (AT - timedelta(days=18 if login == LEFT_TOO_LATE else 13)).date()


def untell(model: Model, week: int) -> None:
    """Put into the railway of an earlier week what the stories have not changed by then."""
    if week < TIGHTENED:
        for login in ENROLLED:
            del model.account(login).factors[1:]
        for login in CHANGED:
            model.account(login).password_set = AT - timedelta(days=440)
        for login in (*LEFT_IN_TIME, LEFT_TOO_LATE):
            model.account(login).enabled = True
            next(user for user in model.users if user.login == login).status = "active"
        model.accounts += [_guest(number, login) for number, login in enumerate(DELETED)]
        _rename_back(model)
    if week < 4:
        issued = AT - timedelta(days=108)
        used = AT - timedelta(days=7 * (4 - week) + 1)
        model.account(RENEWED).keys = [Key(FORMER_KEY, issued, used)]
    if week in (2, 3):
        model.account(CONSOLE).console = False


def _person(model: Model, account: Account) -> Person:
    person = model.person(account.staff_no)
    assert person
    return person


def _guest(number: int, login: str) -> Account:
    made = AT - timedelta(days=60 + number)
    last = AT - timedelta(days=22, hours=number)
    account = Account(login, f"9f3c00000000000{number}", f"Survey {number + 1}", "Guest", "Track", "", made,
                      made + timedelta(days=1), last)  # fmt: skip
    account.groups, account.tags = ["outside"], ["visitor"]
    return account


def _rename_back(model: Model) -> None:
    account = model.account(MARRIED)
    person = _person(model, account)
    account.login, account.name = HER_FORMER_LOGIN, HER_FORMER_NAME
    person.name, person.mail = HER_FORMER_NAME, f"{HER_FORMER_LOGIN}@gvr.example"
    for user in model.users:
        if user.login == MARRIED:
            user.login, user.mail = HER_FORMER_LOGIN, person.mail
    for sign_in in model.sign_ins:
        if sign_in.login == MARRIED:
            sign_in.login = HER_FORMER_LOGIN


def never_expires(model: Model) -> Account:
    """Whoever the entry of the register is for."""
    return next(account for account in model.accounts if ("password-never-expires", "") in account.causes)


def rulebook(text: str, week: int) -> str:
    """The railway's rulebook as it was in a week."""
    if week >= TIGHTENED:
        return text
    for now, before in (
        ('password-age       = "180d"', 'password-age       = "365d"'),
        ('edition = "2026.2"', 'edition = "2026.1"'),
    ):
        assert now in text
        text = text.replace(now, before)
    return text


def register(text: str, week: int, login: str) -> str:
    """The register of exemptions as it was in a week."""
    if week == 4:
        return text
    before, mark, after = text.partition("\n[[exemption.break-glass-west.used]]\nat     = 2026-11-19")
    assert mark
    return before + "\n" + after[after.index("\n[exemption.") + 1 :] + _ENTRY.format(login=login)


_ENTRY = """
[exemption.lineside-tablets]
kind         = "transition"
accounts     = ["directory/{login}"]
rules        = ["password-never-expires"]
reason       = "The tablets along the line take new passwords only at the depot, in the week of the overhaul."
asked-by     = "track"
approved-by  = "information security"
from         = 2026-09-15
until        = 2026-11-13
reviewed     = 2026-10-20
review-every = "60d"
matched      = 1
"""


def findings(week: int, final: Model) -> Iterator[tuple[Finding, str]]:
    """What falls short in a week because of the stories, with its verdict."""
    if week < TIGHTENED:
        yield from ((("staff-second-factor", f"directory/{login}", ""), "breach") for login in ENROLLED)
        yield from ((("password-age", f"directory/{login}", ""), "breach") for login in CHANGED)
        for login in DELETED:
            for rule in ("temporary-has-end", "second-factor-asked"):
                yield (rule, f"directory/{login}", ""), "breach"
        login = never_expires(final).login
        yield ("password-never-expires", f"directory/{login}", ""), "exempt"
    if week == 2:
        yield ("left-still-enabled", f"directory/{LEFT_TOO_LATE}", ""), "breach"
    if week in (2, 3):
        yield ("api-key-age", f"directory/{RENEWED}", f"api-key {FORMER_KEY}"), "breach"
        for rule in ("service-no-session", "second-factor-asked"):
            yield (rule, f"directory/{CONSOLE}", ""), ""
    if week == TIGHTENED:
        yield ("exemption-over", "register", EXEMPT), "breach"


def former_name(account: str, week: int) -> str:
    """How an account that findings name was called in a week."""
    if week < TIGHTENED and account.endswith(f"/{MARRIED}"):
        return account.replace(MARRIED, HER_FORMER_LOGIN)
    return account


def turn(finding: Finding, week: int, final: Model) -> tuple[State, Cause] | None:
    """What a story makes of a finding in a week; nothing where none tells of it."""
    rule, account, subject = finding
    login = account.rpartition("/")[2]
    if week == TIGHTENED and login in DELETED:
        return State.ACCOUNT_GONE, Cause.FACTS
    if week == TIGHTENED and rule == "password-age" and account.startswith("directory/"):
        password_set = final.account(login).password_set
        assert password_set
        age = instant_of(week) - password_set
        if password_age(week) + GRACE < age <= password_age(week - 1) + GRACE:
            return State.NEW, Cause.RULEBOOK
    if week == TIGHTENED and finding == ("exemption-over", "register", EXEMPT):
        return State.NEW, Cause.TIME
    if week == 4 and finding == ("exemption-over", "register", EXEMPT):
        return State.MENDED, Cause.REGISTER
    if week == TIGHTENED and rule == "password-never-expires" and login == never_expires(final).login:
        return State.EXEMPTION_ENDED, Cause.TIME
    if login == CONSOLE and rule in ("service-no-session", "second-factor-asked") and week == 4:
        return State.BACK, Cause.FACTS
    if week == 2 and (login == LEFT_TOO_LATE or subject.endswith(FORMER_KEY)):
        return State.NEW, Cause.TIME
    return None


def rests_on_cloud(finding: Finding) -> bool:
    """Whether nobody can tell of a finding while the cloud service is not read."""
    rule, account, _ = finding
    return account.startswith("cloud/") or rule in ("twin-in-cloud", "emergency-accounts")


def missing_source(finding: Finding, week: int, was: str | None) -> tuple[State, Cause] | None:
    """What becomes of a finding that rests on the cloud service, while it is not read and after that."""
    if week == CLOUD_MISSING and was and rests_on_cloud(finding):
        of_cloud = finding[1].startswith("cloud/")
        return State.NOT_SEEN, Cause.NOT_READ if of_cloud else Cause.UNKNOWN
    if week == CLOUD_MISSING + 1 and rests_on_cloud(finding):
        return State.OPEN if was else State.NEW, Cause.FACTS
    return None
