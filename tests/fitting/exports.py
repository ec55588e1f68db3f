"""Made-up exports of very different shapes, each with what every column of it is.

Expected: table → fact → column. Columns that are named nowhere are no facts.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

ROWS = 40
NOW = datetime(2026, 11, 24, 9, tzinfo=UTC)
NAMES = "Ada Ben Cleo Dan Eva Finn Gisa Hal Ida Jon".split()
FAMILIES = "Arven Birk Clemm Dorn".split()


@dataclass(frozen=True)
class Export:
    """`formats` are the date formats expected, `order` how days and months stand."""

    file: str
    data: bytes
    expected: dict[str, dict[str, str]]
    formats: frozenset[str] = frozenset()


def day(number: int) -> datetime:
    """An instant that has been: some 25 to 600 days back, so that days beyond the 12th occur."""
    return NOW - timedelta(days=25 + number * 14, minutes=number * 37)


def name(number: int) -> str:
    return f"{NAMES[number % 10]} {FAMILIES[number // 10 % 4]}"


def login(number: int) -> str:
    return f"{NAMES[number % 10][0]}.{FAMILIES[number // 10 % 4]}{number}".lower()


def table(
    header: str, row: Callable[[int], Iterable[Any]], mark: str = ",", encoding: str = "utf-8"
) -> bytes:
    out = io.StringIO()
    writer = csv.writer(out, delimiter=mark, lineterminator="\r\n")
    writer.writerow(header.split("|"))
    writer.writerows(row(number) for number in range(ROWS))
    return out.getvalue().encode(encoding)


def lines(record: Callable[[int], Any]) -> bytes:
    return "".join(f"{json.dumps(record(number), ensure_ascii=False)}\n" for number in range(ROWS)).encode()


def some(number: int, *values: Any) -> Any:
    return values[number % len(values)]


def filetime(instant: datetime) -> int:
    """Hundreds of nanoseconds since 1601."""
    return int(instant.timestamp()) * 10_000_000 + 116_444_736_000_000_000


EXPORTS = [
    Export(
        "german.csv",
        table(
            "Anmeldename|Anzeigename|E-Mail-Adresse|Personalnummer|Abteilung|Kontotyp|Konto aktiv"
            "|Gesperrt bis|Letzte Anmeldung|Kennwort geändert am|Kennwort läuft nie ab|Gültig bis|Gruppen|Bemerkung",
            lambda n: [
                login(n),
                name(n),
                f"{login(n)}@werk.example",
                4000 + n,
                some(n, "Vertrieb", "Technik", "Küche"),
                some(n, "Mitarbeiter", "Dienstkonto", "Gast", "Notfallkonto"),
                some(n, "Ja", "Ja", "Nein"),
                some(n, "—", "—", f"{NOW + timedelta(days=n):%d.%m.%Y %H:%M}"),
                some(n, f"{day(n):%d.%m.%Y %H:%M}", "nie"),
                f"{day(n):%d.%m.%Y}",
                some(n, "Nein", "Nein", "Ja"),
                some(n, "unbefristet", f"{NOW + timedelta(days=9 * n):%d.%m.%Y}"),
                some(n, "Alle, Technik", "Alle"),
                some(n, "", "ruft zurück"),
            ],
            ";",
            "windows-1252",
        ),
        {
            "account": {
                "name": "Anmeldename",
                "display": "Anzeigename",
                "mail": "E-Mail-Adresse",
                "person": "Personalnummer",
                "unit": "Abteilung",
                "kind": "Kontotyp",
                "enabled": "Konto aktiv",
                "locked-until": "Gesperrt bis",
                "last-sign-in": "Letzte Anmeldung",
                "password-changed": "Kennwort geändert am",
                "password-never-expires": "Kennwort läuft nie ab",
                "ends": "Gültig bis",
                "groups": "Gruppen",
            }
        },
        frozenset({"%d.%m.%Y %H:%M", "%d.%m.%Y"}),
    ),
    Export(
        "french.tsv",
        table(
            "Identifiant de connexion|Nom complet|Courriel|Matricule|Service|Type de compte|Statut"
            "|Dernière connexion|Mot de passe modifié le|Date de création|Expire le|Échecs de connexion|Responsable",
            lambda n: [
                login(n),
                name(n),
                f"{login(n)}@usine.example",
                f"F{1000 + n}",
                some(n, "Achats", "Ventes"),
                some(n, "interne", "externe", "technique", "partagé"),
                some(n, "Actif", "Désactivé", "Verrouillé"),
                some(n, f"{day(n):%d/%m/%Y à %H:%M}".replace(" à", ""), "jamais"),
                f"{day(n):%d/%m/%Y}",
                f"{day(n + 5):%d/%m/%Y}",
                some(n, "jamais", f"{NOW + timedelta(days=20 * n):%d/%m/%Y}"),
                some(n, 0, 0, 2),
                some(n, "F1001", "F1002"),
            ],
            "\t",
        ),
        {
            "account": {
                "name": "Identifiant de connexion",
                "display": "Nom complet",
                "mail": "Courriel",
                "person": "Matricule",
                "unit": "Service",
                "kind": "Type de compte",
                "enabled": "Statut",
                "locked": "Statut",
                "last-sign-in": "Dernière connexion",
                "password-changed": "Mot de passe modifié le",
                "created": "Date de création",
                "ends": "Expire le",
                "failed-attempts": "Échecs de connexion",
                "owner": "Responsable",
            }
        },
        frozenset({"%d/%m/%Y %H:%M", "%d/%m/%Y"}),
    ),
    Export(
        "italian.csv",
        table(
            "Nome utente|Nome e cognome|Posta elettronica|Reparto|Abilitato|Ultimo accesso|Password cambiata il"
            "|Scadenza|Metodi di autenticazione|Titolare",
            lambda n: [
                login(n),
                name(n),
                f"{login(n)}@fabbrica.example",
                some(n, "Acquisti", "Vendite"),
                some(n, "Sì", "No"),
                some(n, f"{day(n):%d-%m-%Y %H:%M:%S}", "mai"),
                f"{day(n):%d-%m-%Y}",
                some(n, "N/A", f"{NOW + timedelta(days=30 * n):%d-%m-%Y}"),
                some(n, "password|SMS", "password", "password|codice monouso|impronta", "nessuno"),
                some(n, "acquisti", "vendite"),
            ],
            ";",
        ),
        {
            "account": {
                "name": "Nome utente",
                "display": "Nome e cognome",
                "mail": "Posta elettronica",
                "unit": "Reparto",
                "enabled": "Abilitato",
                "last-sign-in": "Ultimo accesso",
                "password-changed": "Password cambiata il",
                "ends": "Scadenza",
                "owner": "Titolare",
            },
            "factor": {"account": "Nome utente", "kind": "@"},
        },
        frozenset({"%d-%m-%Y %H:%M:%S", "%d-%m-%Y"}),
    ),
    Export(
        "spanish-staff.jsonl",
        lines(
            lambda n: {
                "número": f"E{n:03}",
                "nombre": name(n),
                "contacto": {"correo": f"{login(n)}@taller.example"},
                "puesto": {"departamento": some(n, "Compras", "Ventas"), "jefe": f"E{n // 10:03}"},
                "fecha de alta": f"{day(n):%d/%m/%Y}",
                "fecha de baja": some(n, None, f"{NOW + timedelta(days=n):%d/%m/%Y}"),
                "estado": some(n, "activo", "de baja", "cesado"),
                "contrato": some(n, "indefinido", "temporal", "externo"),
                "talla": some(n, "M", "L"),
            }
        ),
        {
            "person": {
                "person": "número",
                "name": "nombre",
                "mail": "contacto.correo",
                "unit": "puesto.departamento",
                "manager": "puesto.jefe",
                "joins": '"fecha de alta"',
                "leaves": '"fecha de baja"',
                "status": "estado",
                "contract": "contrato",
            }
        },
        frozenset({"%d/%m/%Y"}),
    ),
    Export(
        "american.csv",
        table(
            "User ID|Full Name|Email Address|Employee Number|Department|Supervisor|Account Disabled|Last Logon"
            "|Password Last Changed|Account Expires|Privileged|Cubicle",
            lambda n: [
                login(n),
                name(n),
                f"{login(n)}@plant.example",
                7000 + n,
                some(n, "Sales", "Field Service"),
                f"{7000 + n // 10}",
                some(n, "TRUE", "FALSE", "FALSE"),
                some(n, f"{day(n):%m/%d/%Y %I:%M %p}", "N/A"),
                f"{day(n):%m/%d/%Y}",
                some(n, "Never", f"{NOW + timedelta(days=30 * n):%m/%d/%Y}"),
                some(n, "N", "N", "Y"),
                f"{n % 7}{some(n, 'A', 'B')}",
            ],
        ),
        {
            "account": {
                "name": "User ID",
                "display": "Full Name",
                "mail": "Email Address",
                "person": "Employee Number",
                "unit": "Department",
                "manager": "Supervisor",
                "enabled": "Account Disabled",
                "last-sign-in": "Last Logon",
                "password-changed": "Password Last Changed",
                "ends": "Account Expires",
                "privileged": "Privileged",
            }
        },
        frozenset({"%m/%d/%Y %I:%M %p", "%m/%d/%Y"}),
    ),
    Export(
        "service.json",
        json.dumps(
            {
                "page": 1,
                "members": [
                    {
                        "id": f"{n:08x}-0000-4000-8000-00000000000{n % 10}",
                        "userName": login(n),
                        "displayName": name(n),
                        "emails": [{"type": "work", "value": f"{login(n)}@cloud.example"}],
                        "active": n % 3 > 0,
                        "createdAt": int(day(n + 3).timestamp()),
                        "lastLoginAt": int(day(n).timestamp()) if n % 4 else 0,
                        "profile": {"department": some(n, "North", "South"), "manager": login(n // 10)},
                        "authenticators": [
                            {"type": some(n, "totp", "webauthn"), "enrolledAt": int(day(n).timestamp())}
                        ]
                        if n % 2
                        else [],
                        "tokens": [
                            {
                                "tokenId": f"t{n}",
                                "createdAt": int(day(n).timestamp()),
                                "expiresAt": int(NOW.timestamp()) + n * 86400,
                                "status": some(n, "active", "revoked"),
                            }
                        ],
                        "memberOf": [{"name": some(n, "all", "north")}, {"name": "everyone"}],
                        "theme": some(n, "dark", "light"),
                    }
                    for n in range(ROWS)
                ],
            }
        ).encode(),
        {
            "account": {
                "stable-id": "id",
                "name": "userName",
                "display": "displayName",
                "mail": "emails[0].value",
                "enabled": "active",
                "created": "createdAt",
                "last-sign-in": "lastLoginAt",
                "unit": "profile.department",
                "manager": "profile.manager",
                "groups": "memberOf[].name",
            },
            "factor": {"account": "^userName", "kind": "type", "registered": "enrolledAt"},
            "key": {
                "account": "^userName",
                "key": "tokenId",
                "issued": "createdAt",
                "expires": "expiresAt",
                "state": "status",
            },
        },
        frozenset({"epoch-seconds"}),
    ),
    Export(
        "filetime.csv",
        table(
            "objectId|loginName|pwdSet|lastSignIn|accountEnds|locked|badPasswordCount",
            lambda n: [
                f"o{n:012}",
                login(n),
                filetime(day(n)),
                some(n, filetime(day(n)), 0),
                some(n, 9223372036854775807, filetime(NOW + timedelta(days=n))),
                some(n, 0, 0, 1),
                some(n, 0, 3),
            ],
        ),
        {
            "account": {
                "stable-id": "objectId",
                "name": "loginName",
                "password-changed": "pwdSet",
                "last-sign-in": "lastSignIn",
                "ends": "accountEnds",
                "locked": "locked",
                "failed-attempts": "badPasswordCount",
            }
        },
        frozenset({"filetime"}),
    ),
    Export(
        "dutch.csv",
        table(
            "Gebruikersnaam|Volledige naam|E-mailadres|Afdeling|Status|Laatst aangemeld|Wachtwoord gewijzigd"
            "|Aangemaakt op|Geldig tot|Rollen|Personeelsnummer",
            lambda n: [
                login(n),
                name(n),
                f"{login(n)}@molen.example",
                some(n, "Inkoop", "Verkoop"),
                some(n, "Actief", "Uitgeschakeld"),
                some(n, f"{day(n):%Y-%m-%d %H:%M}", "nooit"),
                f"{day(n):%Y-%m-%d}",
                f"{day(n):%Y-%m-%dT%H:%M:%SZ}",
                some(n, "onbeperkt", f"{NOW + timedelta(days=n):%Y-%m-%d}"),
                some(n, "lezer; schrijver", "lezer"),
                9000 + n,
            ],
        ),
        {
            "account": {
                "name": "Gebruikersnaam",
                "display": "Volledige naam",
                "mail": "E-mailadres",
                "unit": "Afdeling",
                "enabled": "Status",
                "last-sign-in": "Laatst aangemeld",
                "password-changed": "Wachtwoord gewijzigd",
                "created": "Aangemaakt op",
                "ends": "Geldig tot",
                "person": "Personeelsnummer",
            },
            "grant": {"account": "Gebruikersnaam", "role": "@"},
        },
        frozenset({"iso"}),
    ),
    Export(
        "tokens.csv",
        table(
            "Owner|Key ID|Type|Issued|Valid until|Last used|State|Algorithm|Key size|Fingerprint|Description",
            lambda n: [
                login(n // 2),
                f"K{n:04}",
                some(n, "API token", "SSH key", "certificate"),
                int(day(n).timestamp() * 1000),
                some(n, "-", int((NOW + timedelta(days=n)).timestamp() * 1000)),
                some(n, int(day(n).timestamp() * 1000), "-"),
                some(n, "Enabled", "Disabled", "Revoked"),
                some(n, "ed25519", "rsa"),
                some(n, 256, 3072),
                f"SHA256:{n:043x}",
                some(n, "build", "backup"),
            ],
            "|",
        ),
        {
            "key": {
                "account": "Owner",
                "key": "Key ID",
                "kind": "Type",
                "issued": "Issued",
                "expires": "Valid until",
                "last-used": "Last used",
                "state": "State",
                "algorithm": "Algorithm",
                "bits": "Key size",
                "digest": "Fingerprint",
                "label": "Description",
            }
        },
        frozenset({"epoch-milliseconds"}),
    ),
    Export(
        "ageing.csv",
        table(
            "user|password changed (days)|expires|last login UTC|status",
            lambda n: [
                login(n),
                int(day(n).timestamp()) // 86400,
                some(n, "", int(NOW.timestamp()) // 86400 + n),
                f"{day(n):%Y%m%d%H%M%S}Z",
                some(n, "active", "locked", "disabled"),
            ],
        ),
        {
            "account": {
                "name": "user",
                "password-changed": "password changed (days)",
                "ends": "expires",
                "last-sign-in": "last login UTC",
                "enabled": "status",
                "locked": "status",
            }
        },
        frozenset({"epoch-days", "%Y%m%d%H%M%SZ"}),
    ),
    Export(
        "elevations.csv",
        table(
            "Request ID|User|Role|Requested|Approved by|Starts|Ends|Closed|Reason|Ticket|Outcome",
            lambda n: [
                f"R{n}",
                login(n),
                some(n, "server administrator", "database owner"),
                f"{day(n):%d %b %Y %H:%M}",
                login(n + 1),
                f"{day(n):%d %b %Y %H:%M}",
                f"{day(n) + timedelta(hours=4):%d %b %Y %H:%M}",
                some(n, f"{day(n) + timedelta(hours=1):%d %b %Y %H:%M}", "n/a"),
                some(n, "restart", "repair of an index"),
                f"T-{n}",
                some(n, "Approved", "Denied", "Expired"),
            ],
        ),
        {
            "elevation": {
                "elevation": "Request ID",
                "account": "User",
                "role": "Role",
                "asked": "Requested",
                "approved-by": "Approved by",
                "starts": "Starts",
                "ends": "Ends",
                "closed": "Closed",
                "reason": "Reason",
                "ticket": "Ticket",
                "outcome": "Outcome",
            }
        },
        frozenset({"%d %b %Y %H:%M"}),
    ),
    Export(
        "portuguese.csv",
        table(
            "Nome de usuário|Nome completo|Correio eletrônico|Matrícula|Departamento|Situação|Último acesso"
            "|Senha alterada em|Válido até|Andar",
            lambda n: [
                login(n),
                name(n),
                f"{login(n)}@usina.example",
                300 + n,
                some(n, "Compras", "Vendas"),
                some(n, "Ativo", "Inativo", "Bloqueado"),
                some(n, f"{day(n):%d/%m/%y %H:%M}", "nunca"),
                f"{day(n):%d/%m/%y}",
                some(n, "ilimitado", f"{NOW + timedelta(days=n):%d/%m/%y}"),
                n % 4,
            ],
            ";",
        ),
        {
            "account": {
                "name": "Nome de usuário",
                "display": "Nome completo",
                "mail": "Correio eletrônico",
                "person": "Matrícula",
                "unit": "Departamento",
                "enabled": "Situação",
                "locked": "Situação",
                "last-sign-in": "Último acesso",
                "password-changed": "Senha alterada em",
                "ends": "Válido até",
            }
        },
        frozenset({"%d/%m/%y %H:%M", "%d/%m/%y"}),
    ),
    Export(
        "yes-and-no.csv",
        table(
            "Login|Full name|MFA registered|MFA required|Office|Last access review|Logon hours|Built-in|Status"
            "|Last login",
            lambda n: [
                login(n),
                name(n),
                some(n, "yes", "yes", "no"),
                some(n, "yes", "no"),
                some(n, "Weir", "Dam"),
                f"{day(n):%Y-%m-%d}",
                some(n, "mon-fri 07:00-19:00", ""),
                some(n, "no", "no", "no", "yes"),
                some(n, "active", "active", "disabled"),
                f"{day(n):%Y-%m-%d}",
            ],
        ),
        {
            "account": {
                "last-sign-in": "Last login",
                "name": "Login",
                "display": "Full name",
                "second-factor-registered": "MFA registered",
                "second-factor-enforced": "MFA required",
                "location": "Office",
                "reviewed": "Last access review",
                "allowed-hours": "Logon hours",
                "built-in": "Built-in",
                "enabled": "Status",
            }
        },
        frozenset({"iso"}),
    ),
]
