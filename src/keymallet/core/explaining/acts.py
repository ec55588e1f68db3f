"""What people do about a fact that no value set in a system mends: a drill that is due, a use unexplained.

By table and fact: what to do where it has to be true, later or more, and where it has to be false or less
(left out where it is the same). The singular "it" is the row that the breach is on.
"""

from __future__ import annotations

from collections.abc import Mapping

_EXPLAIN_USE = "find out who used it and why, and record the use in the register"
_FIND_OUT_WHO = "find out who fails to sign in to it, and why"
_CONFIRM = "have its access confirmed, and record the date"
_RIGHT_NAMES = "correct or remove the names that match nothing"
_OTHER_APPROVER = "have somebody else approve it"
_REVIEW = "review it, and record the date"

ACTS: Mapping[tuple[str, str], tuple[str, ...]] = {
    ("account", "drilled"): ("try it in a drill, and record the drill in the register",),
    ("account", "use-explained"): (_EXPLAIN_USE,),
    ("account", "watched"): ("enter in the register who is told when it is used",),
    ("account", "left-out-unregistered"): ("enter the exclusion in the register, or end it",),
    ("account", "covered-by"): ("leave it out of the sign-in requirement",),
    ("account", "no-twin-in"): ("create the missing account, or end this one",),
    ("account", "twin-differs"): ("correct one of the two accounts so that both agree",),
    ("account", "locked-before"): (_FIND_OUT_WHO,),
    ("account", "failed-attempts"): (_FIND_OUT_WHO,),
    ("account", "reviewed"): (_CONFIRM,),
    ("account", "last-sign-in"): (_EXPLAIN_USE,),
    ("factor", "shared-with"): ("have each person enrol a factor on a device of their own",),
    ("exemption", "excuses"): ("end it: nothing needs it", "mend what it covered, or have it approved anew"),
    ("exemption", "gates"): ("end it: nothing needs it",),
    ("exemption", "covers"): ("narrow its patterns, or have it approved anew",),
    ("exemption", "matched"): ("have it approved anew, with the number of accounts it covers",),
    ("exemption", "names-nobody"): (_RIGHT_NAMES,),
    ("exemption", "names-no-rule"): (_RIGHT_NAMES,),
    ("exemption", "names-no-gate"): (_RIGHT_NAMES,),
    ("exemption", "approves-itself"): (_OTHER_APPROVER,),
    ("exemption", "approved-by"): (_OTHER_APPROVER,),
    ("exemption", "hollow-reason"): ("write down why it is needed",),
    ("exemption", "reviewed"): (_REVIEW,),
    ("exemption", "review-every"): ("set how often it is reviewed",),
    ("gate", "names-nobody"): (_RIGHT_NAMES,),
    ("gate", "asks-accounts"): ("have it cover somebody, or switch it off",),
}


def act(table: str, fact: str, upwards: bool) -> str:
    """What to do about the fact, to make it true, later or more, or the other way; empty if it can be set."""
    acts = ACTS.get((table, fact), ("",))
    return acts[0 if upwards else -1]
