"""Several rulebooks side by side: names of their own, the strictest of what they demand alike, contradictions."""

from __future__ import annotations

from datetime import timedelta

import pytest

from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.rulebook.model import Rule, Rulebook
from keymallet.core.rulebook.reading import read_rulebook, read_rulebooks
from keymallet.core.studies.contradictions import contradictions
from keymallet.sources.rulebooks import open_included, shipped, shipped_text


def book(title: str, limits: str, *rules: str, more: str = "") -> str:
    """A rulebook of a few lines: `id | each | must` for each rule."""
    lines = [f'title = "{title}"', more, "[limits]", limits]
    for rule in rules:
        name, each, must = (part.strip() for part in rule.split("|"))
        lines += [f"[rule.{name}]", f'title = "{name}"', f'each = "{each}"', f'must = "{must}"']
        lines += ['severity = "low"', f'cite = ["{title} {name}"]']
    return "\n".join(lines)


LOOSE = book("Loose", "failures = 100\nage = '90d'", "lockout | setting | lock-after <= limit.failures",
             "age | account | age(password-changed) <= limit.age")  # fmt: skip
STRICT = book("Strict", "failures = 10", "stops-guessing | setting | lock-after <= limit.failures",
              "age | account | enabled")  # fmt: skip
FILES = {"loose.toml": LOOSE, "strict.toml": STRICT}


def opened(wanted: str, by: str) -> tuple[str, str]:
    if wanted not in FILES:
        raise fail("there is none", file=wanted)
    return FILES[wanted], wanted


def both(*names: str) -> Rulebook:
    return read_rulebooks([(FILES[name], name) for name in names], opened)


def rules(found: Rulebook) -> dict[str, Rule]:
    return {rule.id: rule for rule in found.rules}


@pytest.mark.parametrize("order", [("loose.toml", "strict.toml"), ("strict.toml", "loose.toml")])
def test_a_demand_that_two_make_stands_once_and_is_the_strictest(order: tuple[str, str]) -> None:
    """Whichever comes first; with what both cite, and whose figure it is."""
    found = both(*order)
    assert sorted(found.limits) == ["age", "loose/failures", "strict/failures"]
    told = rules(found)
    assert sorted(told) == ["loose/age", "stops-guessing", "strict/age"]
    kept = told["stops-guessing"]
    assert set(kept.cite) == {"Strict stops-guessing", "Loose lockout"} and kept.cite[0].startswith("Strict")
    assert kept.note == "also asked by loose (lockout), less strictly"
    assert found.title == " + ".join(name.removesuffix(".toml").title() for name in order)
    assert set(found.files) == set(order) == set(found.roots)


@pytest.mark.parametrize(
    ("one", "other", "strictest"),
    [
        ("min-length >= limit.x", "min-length >= limit.x", 12),
        ("min-length > limit.x", "min-length > limit.x", 12),
        ("limit.x <= min-length", "limit.x <= min-length", 12),
        ("min-length < limit.x", "min-length < limit.x", 8),
        (
            "min-length is known and min-length >= limit.x",
            "min-length >= limit.x and min-length is known",
            12,
        ),
        ("min-length >= limit.x and history >= 4", "history >= 4 and min-length >= limit.x", 12),
    ],
)
def test_what_is_stricter_follows_from_the_comparison(one: str, other: str, strictest: int) -> None:
    """More where it is the least that is asked for, less where it is the most; in whatever order it is written."""
    texts = [
        (book("A", "x = 8", f"a | setting | {one}"), "a.toml"),
        (book("B", "x = 12", f"b | setting | {other}"), "b.toml"),
    ]
    for order in (texts, texts[::-1]):
        (kept,) = read_rulebooks(order).rules
        assert any(getattr(part, "value", None) == strictest for part in kept.must.walk())


@pytest.mark.parametrize(
    "musts",
    [
        ("not min-length >= limit.x", "not min-length >= limit.x"),
        ("min-length >= limit.x or classes >= 3", "min-length >= limit.x or classes >= 3"),
        ("min-length >= limit.x", "history >= limit.x"),
        ("min-length >= limit.x and history <= limit.x", "min-length >= limit.x and history <= limit.x"),
    ],
)
def test_what_is_not_surely_the_same_demand_stays_apart(musts: tuple[str, str]) -> None:
    """A figure under `not` or `or`, or used twice: which is stricter does not show, so both are judged."""
    texts = [
        (book(name, f"x = {figure}", f"{name} | setting | {must}"), f"{name}.toml")
        for name, figure, must in zip("ab", (8, 12), musts, strict=True)
    ]
    assert len(read_rulebooks(texts).rules) == 2


def test_one_file_over_several() -> None:
    """What it sets holds in each that has it, by the book's name in that one; what it drops is gone."""
    FILES["ours.toml"] = book(
        "Ours", "failures = 5\n'loose/age' = '30d'", "own | account | age(created) <= limit.age",
        more='include = ["loose.toml", "strict.toml"]\ndrop = ["strict/age"]',
    )  # fmt: skip
    found = both("ours.toml")
    assert found.limits["failures"].value == 5
    assert found.limits["age"].value == timedelta(days=30)
    assert sorted(rules(found)) == ["age", "lockout", "own"]
    FILES["ours.toml"] = book(
        "Ours", "", "own | setting | lock-after <= limit.failures",
        more='include = ["loose.toml", "strict.toml"]',
    )  # fmt: skip
    with pytest.raises(KeymalletError) as error:
        both("ours.toml")
    assert [problem.message for problem in error.value.problems] == ['no limit "failures" is set']
    FILES["ours.toml"] = 'title = "Ours"\ninclude = ["loose.toml", "strict.toml"]\ndrop = ["stric/age"]'
    with pytest.raises(KeymalletError) as error:
        both("ours.toml")
    assert error.value.problems[0].hint == 'did you mean "strict/age"?'


@pytest.mark.parametrize("name", ["age", "loose/age"])
def test_a_limit_for_some_over_several(name: str) -> None:
    """By its name alone or with that of its book: it is that of the population in the book that has the term."""
    loose = LOOSE.replace("[limits]", "[terms]\ncrew = 'privileged'\n[limits]", 1)
    over = f'title = "Ours"\ninclude = ["loose.toml", "strict.toml"]\n[limits.for.crew]\n"{name}" = "5d"\n'
    files = {"loose.toml": loose, "strict.toml": STRICT}
    found = read_rulebook(over, "ours.toml", lambda wanted, by: (files[wanted], wanted))
    ((population, value),) = found.populations["age"]
    assert (population, value.value) == ("crew", timedelta(days=5))
    assert found.limits["age"].value == timedelta(days=90)  # type: ignore[union-attr]


def test_what_sets_limits_alone_is_laid_over_what_comes_before() -> None:
    """A file of limits demands nothing by itself: it is no book beside others."""
    FILES["limits.toml"] = 'title = "Limits"\n[limits]\nfailures = 3'
    FILES["ours.toml"] = 'title = "Ours"\ninclude = ["loose.toml", "limits.toml"]'
    found = both("ours.toml")
    assert found.limits["failures"].value == 3
    FILES["ours.toml"] = 'title = "Ours"\ninclude = ["limits.toml", "loose.toml"]'
    assert both("ours.toml").limits["failures"].value == 100


def test_what_two_include_is_judged_once() -> None:
    """Unless one of them changes a limit of it: then it is two demands."""
    FILES["a.toml"] = book("A", "", "a | account | enabled", more='include = ["loose.toml"]')
    FILES["b.toml"] = book("B", "", "b | account | interactive", more='include = ["loose.toml"]')
    assert sorted(rules(both("a.toml", "b.toml"))) == ["a", "age", "b", "lockout"]
    FILES["b.toml"] = book("B", "age = '10d'", "b | account | interactive", more='include = ["loose.toml"]')
    found = both("a.toml", "b.toml")
    assert sorted(found.limits) == ["a/age", "b/age", "failures"]
    (kept,) = [rule for rule in found.rules if rule.id == "age"]
    assert any(getattr(part, "value", None) == timedelta(days=10) for part in kept.must.walk())


def test_books_of_one_name_and_rules_of_one_file_stay_apart() -> None:
    """Two files of one name in two folders; one included file that two books judge by other limits."""
    either = "age(password-changed) <= limit.age or password-must-change"
    FILES["north/ours.toml"] = book("North", "age = '30d'", "old | account | " + either)
    FILES["south/ours.toml"] = book("South", "age = '90d'", "old | account | " + either)
    found = both("north/ours.toml", "south/ours.toml")
    assert sorted(rules(found)) == ["north/ours/old", "south/ours/old"]
    assert sorted(found.limits) == ["north/ours/age", "south/ours/age"]
    FILES["shared.toml"] = book("Shared", "age = '60d'", "old | account | " + either)
    FILES["a.toml"] = book("A", "age = '30d'", "a | account | enabled", more='include = ["shared.toml"]')
    FILES["b.toml"] = book("B", "age = '90d'", "b | account | interactive", more='include = ["shared.toml"]')
    found = both("a.toml", "b.toml")
    assert sorted(rules(found)) == ["a", "a/old", "b", "b/old"]
    assert len({rule.must for rule in found.rules}) == 4


@pytest.mark.parametrize("order", [("mine.toml", "loose.toml"), ("loose.toml", "mine.toml")])
def test_a_book_beside_one_that_changes_it(order: tuple[str, str]) -> None:
    """What the other makes stricter stays so, in whichever order they are named."""
    FILES["mine.toml"] = book(
        "Mine", "failures = 3", "own | account | interactive", more='include = ["loose.toml", "strict.toml"]'
    )
    told = rules(both(*order))
    (kept,) = [rule for rule in told.values() if "lock-after" in rule.must.text]
    assert any(getattr(part, "value", None) == 3 for part in kept.must.walk())
    assert sum(rule.must.text == "age(password-changed) <= limit.age" for rule in told.values()) == 1


@pytest.mark.parametrize(
    ("one", "other", "contradict"),
    [
        ("classes is known and classes >= 2", "classes is unknown or classes <= 1", True),
        ("classes >= 2", "classes <= 2", False),
        ("max-age is unknown", "max-age is known and max-age <= 90d", True),
        ("max-age is unknown or max-age >= 365d", "max-age is known and max-age <= 90d", True),
        ("first-use-change", "not first-use-change", True),
        ("remote-root = no", "remote-root in [yes, key]", True),
        ("classes >= 2 and min-length >= 8", "classes <= 1 or min-length >= 20", False),
        ("min-length >= 8", "classes <= 1", False),
    ],
)
def test_rules_that_no_setting_can_meet_together(one: str, other: str, contradict: bool) -> None:
    """Named where no value of the facts meets both."""
    text = book("A", "", f"a | setting | {one}", f"b | setting | {other}").replace("[limits]", "")
    assert bool(contradictions(read_rulebook(text, "a.toml"))) is contradict


def test_the_standards_that_ship_side_by_side() -> None:
    """All of them at once lose no requirement, and contradict each other in the one way that is known."""
    names = [name for name in shipped() if name != "base"]
    alone = [read_rulebook(shipped_text(name), name, open_included) for name in names]
    found = read_rulebooks([(shipped_text(name), name) for name in names], open_included)
    assert {cite for rule in found.rules for cite in rule.cite} == {
        cite for each in alone for rule in each.rules for cite in rule.cite
    }
    assert len(found.rules) < sum(len(each.rules) for each in alone)
    told = [{each.one.id, each.other.id} for each in contradictions(found)]
    assert told == [{"setting-letters-and-digits", "setting-no-composition"}]


def test_terms_that_mean_the_same_in_every_book_can_be_asked() -> None:
    """Those that differ cannot, nor what rests on them or on a limit that no book sets for all."""
    terms = "[terms]\nstaff = 'kind = person'\nown = 'kind = {}'\nrests = 'own and enabled'\nold = 'age(created) > limit.x'\n"
    for name, kind in (("one", "guest"), ("two", "shared")):
        FILES[f"{name}.toml"] = (
            f"title = '{name}'\n[limits]\nx = '9d'\n{terms.format(kind)}"
            f"[rule.{name}]\ntitle = 'R'\nseverity = 'low'\nmust = 'not (staff and own and rests and old)'\n"
        )
    assert sorted(both("one.toml", "two.toml").terms) == ["old", "staff"]
