"""A fixed sample of one-line mutations of core and sources: does a test of the same area see each?

    python tools/mutations.py [--count 200] [--seed 1] [--only core|sources]

Each is made in a copy of the project, so that nothing of this one is touched; the tests of its area run until
one fails. Ends with 1 where fewer are seen than LEAST asks for. Those that change nothing that could be seen
stand in `mutations.equivalent.txt`, with a reason, and are not counted.
"""

from __future__ import annotations

import argparse
import ast
import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import SimpleQueue

from cosmic_ray.ast import ast_nodes, get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator

ROOT = Path(__file__).parents[1]
PACKAGE = ROOT / "src/keymallet"
EQUIVALENT = Path(__file__).with_name("mutations.equivalent.txt")
LEAST = {"core": 85, "sources": 80}
"""Percent that have to be seen."""
OPERATORS = """
AddNot NumberReplacer ReplaceAndWithOr ReplaceOrWithAnd ReplaceTrueWithFalse ReplaceFalseWithTrue
ReplaceBreakWithContinue ReplaceContinueWithBreak ZeroIterationForLoop
ReplaceUnaryOperator_Delete_Not ReplaceUnaryOperator_Delete_Invert
ReplaceBinaryOperator_BitAnd_BitOr ReplaceBinaryOperator_BitOr_BitAnd
ReplaceBinaryOperator_Add_Sub ReplaceBinaryOperator_Sub_Add ReplaceBinaryOperator_Mul_Div
ReplaceComparisonOperator_Eq_NotEq ReplaceComparisonOperator_NotEq_Eq
ReplaceComparisonOperator_Lt_LtE ReplaceComparisonOperator_LtE_Lt
ReplaceComparisonOperator_Gt_GtE ReplaceComparisonOperator_GtE_Gt
ReplaceComparisonOperator_Is_IsNot ReplaceComparisonOperator_IsNot_Is
""".split()
AREAS = {
    "core/topics": "core/topics commands/test_view.py commands/test_open_questions.py",
    "core/studies": "core/studies commands/test_rules.py commands/test_asking.py"
    " commands/test_open_questions.py",
    "core/rulebook": "core/rulebook core/judging commands/test_rules.py commands/test_exempt.py",
    "core/judging": "core/judging commands/test_exempt.py commands/test_railway.py",
    "core/language": "core/language core/judging core/rulebook",
    "core/evaluating": "core/judging core/studies",
    "core/explaining": "core/explaining core/judging outputs commands/test_rules.py",
    "core/linking": "core/linking sources/test_people.py sources/test_estate.py commands/test_gaps.py"
    " commands/test_railway.py",
    "core": "core sources/test_estate.py commands/test_rules.py",
    "sources/host": "sources/host commands/test_secrets.py commands/test_railway.py",
    "sources/directory": "sources/directory commands/test_secrets.py",
    "sources/scim": "sources/scim commands/test_secrets.py",
    "sources/export": "sources/export commands/test_open_questions.py sources/test_limits.py",
    "sources/shared": "sources commands/test_secrets.py",
    "sources": "sources/test_estate.py sources/test_people.py commands/test_read.py commands/test_gaps.py"
    " commands/test_codes.py",
}
"""The tests of each area, the nearest first; the longest name that fits counts."""


@dataclass(frozen=True)
class Mutation:
    """One change of one module, by its file, operator and the how-manieth place that operator finds."""

    file: str
    operator: str
    place: int

    @property
    def name(self) -> str:
        return f"{self.file} {self.operator} {self.place}"

    @property
    def half(self) -> str:
        return self.file.partition("/")[0]

    def changed(self, package: Path) -> str | None:
        """The module's text with the change; None where it changes nothing but what is not run."""
        source = (package / self.file).read_text("utf-8")
        text = mutate_code(source, get_operator(f"core/{self.operator}")(), self.place)
        try:
            return None if text is None or _what_runs(text) == _what_runs(source) else str(text)
        except SyntaxError:
            # A pattern of `match` knows only `|`: no program comes of it.
            return None

    def line(self, package: Path) -> str:
        """The first line that differs, and how."""
        source, text = (package / self.file).read_text("utf-8"), self.changed(package) or ""
        pairs = zip(source.splitlines(), text.splitlines(), strict=False)
        return next(
            (f"{number}: {new.strip()}" for number, (old, new) in enumerate(pairs, 1) if old != new), ""
        )


def _what_runs(source: str) -> str:
    """The module without annotations and texts that only tell."""
    tree = ast.parse(source)
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef):
            node.returns = None
            for argument in (*node.args.args, *node.args.kwonlyargs, *node.args.posonlyargs):
                argument.annotation = None
        elif isinstance(node, ast.AnnAssign):
            node.annotation = ast.Constant("")
        elif isinstance(node, ast.Call):
            # Slots save room, and are seen by nobody else.
            node.keywords = [word for word in node.keywords if word.arg != "slots"]
    return ast.dump(tree)


def mutations(half: str) -> Iterator[Mutation]:
    """Every mutation there is of one half of the package."""
    for path in sorted((PACKAGE / half).rglob("*.py")):
        tree = get_ast(path.read_text("utf-8"))
        for name in OPERATORS:
            operator = get_operator(f"core/{name}")()
            places = sum(len(list(operator.mutation_positions(node))) for node in ast_nodes(tree))
            for place in range(places):
                yield Mutation(path.relative_to(PACKAGE).as_posix(), name, place)


def sample(half: str, count: int, seed: int) -> list[Mutation]:
    """So many mutations of one half: for the same seed the same ones, wherever the code stays as it is."""
    known = {
        line.split("  ")[0]
        for line in EQUIVALENT.read_text("utf-8").splitlines()
        if line[:1] not in ("", "#")
    }
    everything = list(mutations(half))
    everything.sort(key=lambda mutation: hashlib.sha256(f"{seed} {mutation.name}".encode()).digest())
    chosen = []
    for mutation in everything:
        if len(chosen) == count:
            break
        if mutation.name not in known and mutation.changed(PACKAGE) is not None:
            chosen.append(mutation)
    return chosen


def lived_before(printed: Path) -> list[Mutation]:
    """The mutations that a run printed as lived, without those that have been found to change nothing."""
    known = {line.split("  ")[0] for line in EQUIVALENT.read_text("utf-8").splitlines()}
    lines = [line.split("  ") for line in printed.read_text("utf-8").splitlines() if line.startswith("lived")]
    named = [words[1].rsplit(" ", 2) for words in lines if words[1] not in known]
    return [Mutation(file, operator, int(place)) for file, operator, place in named]


def tests_of(file: str) -> list[str]:
    """The tests of the area that a module is in."""
    area = max((name for name in AREAS if file.startswith(f"{name}/")), key=len)
    return [f"tests/{name}" for name in AREAS[area].split()]


def is_seen(mutation: Mutation, copy: Path) -> bool:
    """Whether a test of the area fails in a copy of the project that has the mutation."""
    file = copy / "src/keymallet" / mutation.file
    whole = file.read_text("utf-8")
    file.write_text(mutation.changed(copy / "src/keymallet") or whole, "utf-8")
    try:
        words = [
            sys.executable,
            "-m",
            "pytest",
            "-x",
            "-q",
            "-p",
            "no:cacheprovider",
            *tests_of(mutation.file),
        ]
        environment = {**os.environ, "PYTHONPATH": f"{copy}/src", "CI": "", "KEYMALLET_TESTS": "short"}
        done = subprocess.run(words, cwd=copy, env=environment, capture_output=True, timeout=900, check=False)
        return done.returncode != 0
    except subprocess.TimeoutExpired:
        return True
    finally:
        file.write_text(whole, "utf-8")


def main() -> int:
    """Make the sample, run it, tell what lived."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=200, help="over both halves")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", choices=tuple(LEAST))
    parser.add_argument("--again", metavar="FILE", help="try those once more that lived, by what was printed")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    options = parser.parse_args()
    halves = [options.only] if options.only else list(LEAST)
    if options.again:
        chosen = lived_before(Path(options.again))
        halves = sorted({mutation.half for mutation in chosen})
    else:
        chosen = [one for half in halves for one in sample(half, options.count // len(halves), options.seed)]
    with tempfile.TemporaryDirectory() as folder:
        copies: SimpleQueue[Path] = SimpleQueue()
        for number in range(options.jobs):
            copy = Path(folder, str(number), "main")
            shutil.copytree(
                ROOT, copy, ignore=shutil.ignore_patterns(".venv", ".git", "build", "docs/screenshots")
            )
            copies.put(copy)

        def tried(mutation: Mutation) -> tuple[Mutation, bool, str]:
            copy = copies.get()
            try:
                return mutation, is_seen(mutation, copy), mutation.line(copy / "src/keymallet")
            finally:
                copies.put(copy)

        seen, lived = Counter[str](), Counter[str]()
        with ThreadPoolExecutor(options.jobs) as workers:
            for mutation, is_one, line in workers.map(tried, chosen):
                (seen if is_one else lived)[mutation.half] += 1
                if is_one:
                    print(f"seen   {mutation.name}", flush=True)
                else:
                    print(f"lived  {mutation.name}  {line}", flush=True)
    enough = True
    for half in halves:
        number = seen[half] + lived[half]
        share = 100 * seen[half] / max(number, 1)
        enough &= share >= LEAST[half]
        print(f"{half}: {seen[half]} of {number} seen ({share:.0f}%; at least {LEAST[half]}% are asked for)")
    return 0 if enough else 1


if __name__ == "__main__":
    sys.exit(main())
