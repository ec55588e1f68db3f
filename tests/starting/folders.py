"""Folders of made-up organisations, as somebody finds them on the first day; and what is right of each."""

from __future__ import annotations

import csv
import io
import json
import shutil
import tarfile
from collections.abc import Callable, Iterable
from pathlib import Path

HOSTS = Path(__file__).parents[1] / "plants" / "hosts"
PEOPLE = "adunn bkoch cvos dlee eross fmay ghill hlang isand jmoor".split()


def table(header: str, rows: Iterable[Iterable[object]], mark: str = ",", encoding: str = "utf-8") -> bytes:
    out = io.StringIO()
    writer = csv.writer(out, delimiter=mark, lineterminator="\r\n")
    writer.writerow(header.split("|"))
    writer.writerows(rows)
    return out.getvalue().encode(encoding)


def name(login: str) -> str:
    return f"{login[0].upper()}. {login[1:].title()}"


def mail(login: str, domain: str) -> str:
    return f"{login}@{domain}.example"


def brewery(folder: Path) -> None:
    """One system, its factors and roles; dates of a spreadsheet."""
    accounts = [
        (who, name(who), mail(who, "brewery"), "yes" if n % 4 else "no", 46_100 + n * 20, 46_200.25 + n, 46_600 if n == 3 else "")
        for n, who in enumerate(PEOPLE)
    ]  # fmt: skip
    save(folder, {
        "accounts.csv": table("Login|Full name|E-mail|Enabled|Password last set|Last logon|Account expires", accounts),
        "mfa.csv": table("User name|Method|Enrolled", [(who, "SMS", f"2026-0{n % 9 + 1}-14") for n, who in enumerate(PEOPLE[:6])]),
        "roles.csv": table("Login|Role|Start", [("adunn", "Administrator", "2024-02-20"), ("bkoch", "Reader", "2025-03-13")]),
        "notes.md": b"# Nothing of interest\n",
    })  # fmt: skip


def canal(folder: Path) -> None:
    """Nine files in three languages and four encodings: two systems, a staff list, and what belongs to them."""
    konten = [(who, name(who), mail(who, "canal"), "Aktiv" if n % 3 else "Inaktiv", f"{n + 1:02}.03.2026", "nein", 1000 + n)
              for n, who in enumerate(PEOPLE)]  # fmt: skip
    comptes = [(mail(who, "canal"), name(who), "oui" if n % 2 else "non", f"{n + 13:02}/10/2026 08:00", f"{n + 2:02}/05/2025")
               for n, who in enumerate(PEOPLE[:7])]  # fmt: skip
    kadry = [(1000 + n, name(who), mail(who, "canal"), f"{n + 11:02}.06.2019", "" if n else "31.12.2025", "aktywny" if n else "zwolniony")
             for n, who in enumerate(PEOPLE)]  # fmt: skip
    save(folder, {
        "konten.csv": table("Anmeldename|Anzeigename|E-Mail-Adresse|Status|Passwort geändert am|Gesperrt|Personalnummer", konten, ";", "cp1252"),
        "schluessel.csv": table("Schlüssel-ID|Inhaber|Ausgestellt am|Gültig bis", [("K-1", "bkoch", "14.02.2026", "14.02.2027"), ("K-2", "dlee", "19.10.2024", "")], ";", "utf-16"),
        "rollen.csv": table("Benutzer|Rolle|Seit", [("adunn", "Verwalter", "20.01.2024"), ("ghill", "Leser", "13.02.2025")], ";", "cp1252"),
        "anmeldungen.csv": table("Zeitpunkt|Benutzername|Ergebnis", [("20.11.2026 08:00", "bkoch", "Erfolg"), ("21.11.2026 09:30", "cvos", "Fehler")], ";"),
        "comptes.csv": table("Adresse e-mail|Nom complet|Actif|Dernière connexion|Date de création", comptes, ";"),
        "facteurs.csv": table("Courriel|Type de méthode|Enregistré le", [(mail(who, "canal"), "SMS", f"{n + 14:02}/01/2026") for n, who in enumerate(PEOPLE[:5])], ";", "cp1252"),
        "pracownicy.csv": table("Nr pracownika|Imię i nazwisko|Adres e-mail|Data zatrudnienia|Data zwolnienia|Status", kadry, ";", "cp1250"),
        "uprawnienia.csv": table("Login|Rola|Ważne do", [("eross", "odczyt", "31.12.2026"), ("fmay", "odczyt", "30.06.2026")], ";", "cp1250"),
        "lisez-moi.md": "Voilà.\n".encode("cp1252"),
    })  # fmt: skip


def pier(folder: Path) -> None:
    """Hosts as folders and as an archive, and nothing else."""
    shutil.copytree(HOSTS / "inlet", folder / "servers" / "inlet")
    with tarfile.open(folder / "outfall.tar.gz", "w:gz") as archive:
        archive.add(HOSTS / "outfall", arcname=".")


def abbey(folder: Path) -> None:
    """A directory as LDIF, and a staff list in a Czech encoding."""
    entries = ["dn: dc=abbey,dc=example\nobjectClass: domain\ndc: abbey\n"]
    entries += [
        f"dn: uid={who},dc=abbey,dc=example\nobjectClass: inetOrgPerson\nuid: {who}\ncn: {name(who)}\nsn: {who}\nmail: {mail(who, 'abbey')}\n"
        for who in PEOPLE
    ]
    staff = [
        (n + 1, name(who), mail(who, "abbey"), f"{n + 13:02}.09.2020", "") for n, who in enumerate(PEOPLE)
    ]
    save(folder, {
        "directory.ldif": "\n".join(entries).encode(),
        "zaměstnanci.csv": table("Osobní číslo|Jméno a příjmení|E-mail|Datum nástupu|Datum odchodu", staff, ";", "cp1250"),
    })  # fmt: skip


def vineyard(folder: Path) -> None:
    """A cloud service in JSON, its methods as CSV by the number of the account; a login that is not sure."""
    users = [
        {"id": f"u-{n:04}", "signInName": who, "displayName": name(who), "email": mail(who, "vineyard"),
         "enabled": n % 5 != 0, "createdAt": f"2024-0{n % 9 + 1}-15T08:00:00Z", "lastSignIn": {"at": f"2026-11-{n + 10}T06:00:00Z"}}
        for n, who in enumerate(PEOPLE)
    ]  # fmt: skip
    save(folder, {
        "cloud.json": json.dumps({"value": users}).encode(),
        "methods.csv": table("User ID|Method type|Registered", [(f"u-{n:04}", "Passkey", "2026-05-14") for n in range(7)]),
    })  # fmt: skip


def attic(folder: Path) -> None:
    """What lies about beside one export: the same once more, a workbook, passwords, something cut off, nothing."""
    accounts = [(who, name(who), mail(who, "attic"), f"2026-0{n % 9 + 1}-20") for n, who in enumerate(PEOPLE)]
    header = "Benutzername|Vollständiger Name|E-Mail|Letzte Anmeldung"
    save(folder, {
        "benutzer.csv": table(header, accounts, ";"),
        "benutzer-alt.csv": table(header, accounts[:-1], ";"),
        "inventory.xlsx": b"PK\x03\x04" + bytes(200),
        "wordlist.txt": b"Password\nhunter2!\nS0mmer-2026\nW1nter#2025\nletmein_99\n",
        "random.bin": bytes(range(256)) * 20,
        "empty.csv": b"",
        "half.tar.gz": b"\x1f\x8b\x08\x00",
        "prices.csv": table("Article|Price", [("Bread", "3.20"), ("Milk", "1.80")]),
        "keys of nobody.csv": table("Key ID|Owner|Created", [("k1", "zzz", "2026-01-15"), ("k2", "yyy", "2026-02-14")]),
    })  # fmt: skip


def school(folder: Path) -> None:
    """Listings of the accounts of many computers, one file each; and a service whose login is not sure."""
    pcs = {
        f"pcs/room-{n}.csv": table(
            "Account|Active|Password last changed",
            [("admin", "Yes", f"2026-0{n}-14"), ("pupil", "No", "2025-10-22")],
        )
        for n in range(1, 6)
    }
    users = [(who.upper(), mail(who, "school"), f"{n + 13:02}/08/2026") for n, who in enumerate(PEOPLE)]
    save(folder, pcs | {"service.csv": table("Zugang|E-mail|Last login", users)})  # fmt: skip


def save(folder: Path, files: dict[str, bytes]) -> None:
    for path, data in files.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(data)


FOLDERS: dict[str, tuple[Callable[[Path], None], dict[str, int]]] = {
    "brewery": (brewery, {"account": 10, "factor": 6, "grant": 2}),
    "canal": (canal, {"account": 17, "key": 2, "grant": 4, "sign-in": 2, "factor": 5, "person": 10}),
    "pier": (pier, {}),
    "abbey": (abbey, {"account": 10, "person": 10}),
    "vineyard": (vineyard, {"account": 10, "factor": 7}),
    "attic": (attic, {"account": 10}),
    "school": (school, {"account": 20}),
}
"""Each folder, and how many rows of which tables its files hold together."""
