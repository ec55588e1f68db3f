"""A run sealed into one file, judged again where nothing of the estate is; and altered in every part."""

from __future__ import annotations

import io
import re
import shutil
import zipfile
from pathlib import Path

import msgspec
import polars as pl
import pytest
from blake3 import blake3

from tests.profiles import first
from tests.support import newest, run, run_installed


@pytest.fixture(scope="module")
def sealed(railway_snapshot: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The railway's first run. Not to be changed."""
    file = tmp_path_factory.mktemp("sealed") / "run-1.zip"
    run("logbook", "seal", "1", "--output", str(file), cwd=railway_snapshot, expect=0)
    return file


def test_it_is_judged_again_where_there_is_no_estate(sealed: Path, tmp_path: Path) -> None:
    """By the installed program, in an empty folder: every verdict is the same, bit for bit."""
    told = run_installed("judge", "--sealed", str(sealed), cwd=tmp_path, expect=0).stdout
    assert "judged again, every verdict is the same" in told and "head " in told
    assert not list(tmp_path.iterdir()), "nothing is left behind"
    assert sealed.stat().st_mode & 0o077 == 0


def test_the_same_run_is_sealed_to_the_same_bytes(
    sealed: Path, railway_snapshot: Path, tmp_path: Path
) -> None:
    run("logbook", "seal", "1", "--output", str(tmp_path / "x.zip"), cwd=railway_snapshot, expect=0)
    assert (tmp_path / "x.zip").read_bytes() == sealed.read_bytes()
    assert (
        "exists already"
        in run_installed(
            "logbook", "seal", "1", "--output", str(tmp_path / "x.zip"), cwd=railway_snapshot, expect=2
        ).stderr
    )


def rewritten(sealed: Path, target: Path, change: dict[str, bytes | None]) -> Path:
    """The file with other members: what somebody makes who wants it to look whole."""
    with zipfile.ZipFile(sealed) as old, zipfile.ZipFile(target, "w") as new:
        for name in old.namelist():
            data = change.get(name, old.read(name))
            if data is not None:
                new.writestr(name, data)
        for name in change.keys() - set(old.namelist()):
            new.writestr(name, change[name] or b"")
    return target


def members(sealed: Path) -> dict[str, bytes]:
    with zipfile.ZipFile(sealed) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def refused(file: Path, folder: Path) -> str:
    return " ".join(run("judge", "--sealed", str(file), cwd=folder, expect=2).stderr.split())


def test_one_byte_of_any_member_is_seen(sealed: Path, tmp_path: Path) -> None:
    """The first, one in the middle and the last byte of each; a member that is gone, one that was put in."""
    whole = members(sealed)
    assert len(whole) > 8
    for name, data in whole.items():
        for place in (0, len(data) // 2, len(data) - 1):
            other = data[:place] + bytes([data[place] ^ 1]) + data[place + 1 :]
            assert "sealed" in refused(rewritten(sealed, tmp_path / "x.zip", {name: other}), tmp_path), name
        assert "sealed run" in refused(rewritten(sealed, tmp_path / "x.zip", {name: None}), tmp_path), name
    put_in = rewritten(sealed, tmp_path / "x.zip", {"texts/more.toml": b"x"})
    assert "a member was removed or put in" in refused(put_in, tmp_path)
    for place in range(0, sealed.stat().st_size, 9973):
        data = sealed.read_bytes()
        (tmp_path / "y.zip").write_bytes(data[:place] + bytes([data[place] ^ 255]) + data[place + 1 :])
        done = run("judge", "--sealed", str(tmp_path / "y.zip"), cwd=tmp_path)
        assert done.returncode in (0, 2), "a date of a member may be anything: its bytes are what counts"


def test_whoever_alters_it_well_still_has_another_head(
    sealed: Path, railway_snapshot: Path, tmp_path: Path
) -> None:
    """Findings replaced, and every digest made anew up to the proof: it judges, but no longer to the head."""
    whole = members(sealed)
    record = msgspec.json.decode(whole["record.json"])
    record["code"] = 0
    changed = msgspec.json.format(msgspec.json.encode(record)) + b"\n"
    manifest = msgspec.json.decode(whole["manifest.json"])
    manifest["members"]["record.json"] = blake3(changed).hexdigest()
    forged = {
        "record.json": changed,
        "manifest.json": msgspec.json.format(msgspec.json.encode(manifest)) + b"\n",
    }
    told = refused(rewritten(sealed, tmp_path / "x.zip", forged), tmp_path)
    assert "the proof does not lead from its record to the head" in told
    proof = msgspec.json.decode(whole["proof.json"])
    proof["digests"][0] = blake3(changed).hexdigest()
    reached = proof["previous"]
    for digest in proof["digests"]:
        reached = blake3(f"{reached}{digest}".encode()).hexdigest()
    real_head, proof["head"], manifest["head"] = proof["head"], reached, reached
    forged["proof.json"] = msgspec.json.format(msgspec.json.encode(proof)) + b"\n"
    manifest["members"]["proof.json"] = blake3(forged["proof.json"]).hexdigest()
    forged["manifest.json"] = msgspec.json.format(msgspec.json.encode(manifest)) + b"\n"
    shown = run("judge", "--sealed", str(rewritten(sealed, tmp_path / "x.zip", forged)), cwd=tmp_path).stdout
    assert real_head not in shown and reached in shown
    listed = run("logbook", "verify", "--head", real_head, cwd=railway_snapshot, expect=0)
    assert "as they were written" in listed.stdout
    run("logbook", "verify", "--head", reached, cwd=railway_snapshot, expect=1)


def test_what_is_no_sealed_run(sealed: Path, tmp_path: Path) -> None:
    (tmp_path / "text.zip").write_text("no archive")
    assert "this is no sealed run" in refused(tmp_path / "text.zip", tmp_path)
    with zipfile.ZipFile(tmp_path / "other.zip", "w") as archive:
        archive.writestr("a.txt", "x")
    assert "this is no sealed run" in refused(tmp_path / "other.zip", tmp_path)
    assert "cannot be read" in refused(tmp_path / "nowhere.zip", tmp_path)
    whole = members(sealed)
    manifest = msgspec.json.decode(whole["manifest.json"])
    out = {"../evil.toml": b"x", "manifest.json": b""}
    manifest["members"]["../evil.toml"] = blake3(b"x").hexdigest()
    out["manifest.json"] = msgspec.json.format(msgspec.json.encode(manifest)) + b"\n"
    assert "is no part of a sealed run" in refused(rewritten(sealed, tmp_path / "x.zip", out), tmp_path)
    told = run("judge", "--sealed", str(sealed), "--at", "2026-11-24", cwd=tmp_path, expect=2).stderr
    assert "leave out --at" in told


def test_a_run_whose_snapshot_or_findings_are_gone_cannot_be_sealed(railway: Path, tmp_path: Path) -> None:
    """With what to do; and a folder by another name will do."""
    (kept,) = (path for path in (railway / "snapshots").iterdir() if path.is_dir())
    kept.rename(railway / "snapshots" / "renamed")
    run("logbook", "seal", "1", "--output", str(tmp_path / "a.zip"), cwd=railway, expect=0)
    table = railway / "snapshots/renamed/factor.parquet"
    whole = table.read_bytes()
    table.write_bytes(whole.replace(b"otp", b"opt", 1))
    told = run("logbook", "seal", "1", "--output", str(tmp_path / "b.zip"), cwd=railway, expect=2).stderr
    assert "factor.parquet: the snapshot is damaged" in " ".join(told.split())
    assert not (tmp_path / "b.zip").exists()
    table.write_bytes(whole)
    run("logbook", "prune", "--keep", "1", cwd=railway, expect=0)
    told = run("logbook", "seal", "1", "--output", str(tmp_path / "b.zip"), cwd=railway, expect=2).stderr
    assert "its findings are no longer kept" in told
    shutil.rmtree(railway / "snapshots" / "renamed")
    told = run("logbook", "seal", "2", "--output", str(tmp_path / "b.zip"), cwd=railway, expect=2).stderr
    assert "is no longer there" in told and not (tmp_path / "b.zip").exists()


def test_with_pseudonyms_no_name_leaves_the_house(railway_snapshot: Path, tmp_path: Path) -> None:
    """Every login, mail address and shown name is looked for in every cell and text; and what differs is said."""
    file = tmp_path / "masked.zip"
    told = run(
        "logbook", "seal", "1", "--pseudonyms", "--output", str(file), cwd=railway_snapshot, expect=0
    ).stdout
    whole = members(file)
    frames = {
        name: pl.read_parquet(io.BytesIO(data)) for name, data in whole.items() if name.endswith(".parquet")
    }
    texts = {name: data.decode() for name, data in whole.items() if name not in frames}
    for name, frame in frames.items():
        cells = [frame[column].explode() if frame[column].dtype == pl.List(pl.String) else frame[column]
                 for column in frame.columns if frame[column].dtype in (pl.String, pl.List(pl.String))]  # fmt: skip
        texts[name] = "\n".join(sorted({cell for column in cells for cell in column.drop_nulls()}))
    book = next(
        text for text in texts.values() if "Sign-in and credential standard" in text and "[limits]" in text
    )
    accounts = newest(railway_snapshot).evidence().tables["account"]
    people = newest(railway_snapshot).evidence().tables["person"]
    names = {name for column in ("name", "mail", "display") for name in accounts[column].drop_nulls()}
    names |= {name for column in ("name", "mail") for name in people[column].drop_nulls()}
    assert len(names) > 1_000
    # What the rulebook itself spells (root) is no secret of this house.
    looked_for = [name for name in names if not re.search(rf"\b{re.escape(name)}\b", book)]
    assert len(names) - len(looked_for) < 5
    words = {member: set(re.findall(r"[\w.@+$-]+", text)) for member, text in texts.items()}
    for name in looked_for:
        for member, text in texts.items():
            there = name in words[member] if re.fullmatch(r"[\w.@+$-]+", name) else name in text
            assert not there, f"{name} stands in {member}"
    assert "twin-in-cloud" in told, "the rule compares names as people wrote them"
    shown = run("judge", "--sealed", str(file), cwd=tmp_path, expect=1).stdout
    assert "rules with other numbers: twin-in-cloud, one-user-id-0" in shown
    assert "p-" in shown and "made from the run with head" in shown


@pytest.mark.parametrize("number", first(1, ["4", "2", "3"]))
def test_no_former_name_leaves_the_house_either(four_weeks: Path, tmp_path: Path, number: str) -> None:
    """Somebody was renamed, accounts were deleted, a source was not seen: nothing says how they were called."""
    there, file = four_weeks / "there", tmp_path / "masked.zip"
    run("logbook", "seal", number, "--pseudonyms", "--output", str(file), cwd=there, expect=0)
    names: set[str] = set()
    for path in sorted((there / "snapshots").glob("2026-*")):
        accounts, people = (pl.read_parquet(path / f"{table}.parquet") for table in ("account", "person"))
        names |= {name for column in ("name", "mail", "display") for name in accounts[column].drop_nulls()}
        names |= {name for column in ("name", "mail") for name in people[column].drop_nulls()}
    assert {"h.moosegger", "Hedda Moosegger", "h.nebelacher", "guest-survey-1"} <= names
    whole = members(file)
    book = next(
        text.decode() for name, text in whole.items() if name.endswith(".toml") and b"[limits]" in text
    )
    texts = []
    for name, data in whole.items():
        if name.endswith(".parquet"):
            frame = pl.read_parquet(io.BytesIO(data))
            cells = [frame[column].explode() if frame[column].dtype == pl.List(pl.String) else frame[column]
                     for column in frame.columns if frame[column].dtype in (pl.String, pl.List(pl.String))]  # fmt: skip
            texts.append("\n".join(sorted({cell for column in cells for cell in column.drop_nulls()})))
        else:
            texts.append(data.decode())
    told = "\n".join(texts)
    words = set(re.findall(r"[\w.@+$-]+", told))
    found = {name for name in names if (name in words if re.fullmatch(r"[\w.@+$-]+", name) else name in told)}
    assert {name for name in found if not re.search(rf"\b{re.escape(name)}\b", book)} == set()
    run("judge", "--sealed", str(file), cwd=tmp_path)
