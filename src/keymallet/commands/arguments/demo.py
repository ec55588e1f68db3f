"""Make the estate of the Gentian Valley Railway, a made-up organisation, and run four weeks on it.

Everything in it is invented. Three weeks are read and judged in a line each; the morning of the fourth is
shown command by command, the first screen of each. All of them work on your own files in the same way.
"""

from __future__ import annotations

import argparse

EXAMPLES = [
    ("keymallet demo", "make it in ./gentian-valley-railway"),
    ("keymallet demo try-out", "make it in another folder"),
]


FOLDER = "gentian-valley-railway"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "folder", nargs="?", default=FOLDER, metavar="FOLDER", help=f"where to make it (default: {FOLDER})"
    )
    served = parser.add_argument_group("a stand-in cloud directory, over SCIM on this machine alone")
    served.add_argument("--serve", action="store_true", help="serve the railway's tenant until Ctrl-C")
    served.add_argument("--port", type=int, default=0, metavar="N", help="at this port (default: any free)")
    served.add_argument("--by-cursor", action="store_true", help="offer pages by cursor (RFC 9865)")
    served.add_argument("--slow", type=float, default=0.0, metavar="S", help="seconds before each answer")
    served.add_argument("--busy", type=int, default=0, metavar="N", help="N of 100 answers: come back later")
    served.add_argument("--cut", type=int, default=0, metavar="N", help="N of 100 answers are cut off")
    served.add_argument("--changing", action="store_true", help="users go away while they are paged through")
    served.add_argument(
        "--token-for", type=int, metavar="N", help="the token runs out after N answers (default: never)"
    )
    served.add_argument(
        "--tls",
        choices=("good", "expired", "other-host"),
        help="speak TLS, with a certificate of this sort, made on the spot",
    )
