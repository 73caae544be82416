"""Send an OTLP request over HTTP and report the outcome in one line.

The whole exchange has one deadline. Redirections are not followed: a person named the receiver, and
the request describes a computer. Only scheme, host and port of an address are ever printed, because
the rest may hold a password or a token.
"""

import base64
import http.client
import json
import re
import threading
import urllib.error
import urllib.request
from contextlib import suppress
from typing import IO, NamedTuple, NoReturn
from urllib.parse import unquote, urlsplit, urlunsplit

from dunmist.errors import OutputError, WrongUsage

# a receiver on a slow line answers in seconds
DEADLINE_S = 20.0
# an answer is a short JSON object
ANSWER_MAX_BYTES = 1 << 16
SCHEMES = ("http", "https")
EXAMPLE = "write http://host:4318/v1/metrics"
_PRINTABLE = re.compile(r"[!-~]+")
_HOST = re.compile(r"[\w.-]+|[0-9A-Fa-f:.]+")


class Receiver(NamedTuple):
    """Destination of a request: an address without user and password, and its name."""

    address: str
    label: str
    authorization: str | None


class _NoRedirects(urllib.request.HTTPRedirectHandler):
    """Takes a redirection for the answer that it is."""

    def redirect_request(  # noqa: PLR0917 - as in the class above
        self,
        req: urllib.request.Request,
        fp: IO[bytes],
        code: int,
        msg: str,
        headers: http.client.HTTPMessage,
        newurl: str,
    ) -> None:
        return None


def parse_receiver(address: str) -> Receiver:
    """Return the receiver at an address of the web; raises WrongUsage."""
    if not _PRINTABLE.fullmatch(address):
        raise WrongUsage(f"the address of --to has a blank or a line end in it; {EXAMPLE}")
    try:
        parts = urlsplit(address)
        host, port = parts.hostname, parts.port
    except ValueError:
        host = port = None
    if host is None or parts.scheme not in SCHEMES or not _HOST.fullmatch(host):
        raise WrongUsage(f"invalid address for --to; {EXAMPLE}")
    netloc = f"[{host}]" if ":" in host else host
    netloc += f":{port}" if port is not None else ""
    authorization = None
    if parts.username is not None:
        words = f"{unquote(parts.username)}:{unquote(parts.password or '')}"
        authorization = f"Basic {base64.b64encode(words.encode()).decode()}"
    return Receiver(
        urlunsplit((parts.scheme, netloc, parts.path or "/", parts.query, "")),
        f"{parts.scheme}://{netloc}",
        authorization,
    )


def send(address: str, text: str) -> None:
    """Send a request; raises OutputError with what was answered, and WrongUsage."""
    receiver = parse_receiver(address)
    troubles: list[OutputError | None] = []

    def exchange() -> None:
        try:
            _exchange(receiver, text.encode())
            troubles.append(None)
        except OutputError as error:
            troubles.append(error)

    # names are resolved and bytes dripped as slowly as others like: a thread can be left behind
    thread = threading.Thread(target=exchange, name="otlp", daemon=True)
    thread.start()
    thread.join(DEADLINE_S)
    if not troubles:
        raise OutputError(f"{receiver.label}: no answer within {DEADLINE_S:.0f} s; try again")
    if troubles[0] is not None:
        raise troubles[0]


def _exchange(receiver: Receiver, body: bytes) -> None:
    headers = {"Content-Type": "application/json"}
    if receiver.authorization:
        headers["Authorization"] = receiver.authorization
    # the scheme was checked: parse_receiver takes http and https
    request = urllib.request.Request(receiver.address, data=body, headers=headers)  # noqa: S310
    opener = urllib.request.build_opener(_NoRedirects)
    try:
        with opener.open(request, timeout=DEADLINE_S) as answer:
            said = answer.read(ANSWER_MAX_BYTES)
    except urllib.error.HTTPError as error:
        with error:
            _fail(receiver, f"answered {error.code} {error.reason}; nothing was kept there")
    except http.client.HTTPException as error:
        _fail(receiver, f"its answer is not HTTP ({type(error).__name__}); is OTLP received there?")
    except (OSError, ValueError) as error:
        reason = getattr(error, "reason", error)
        _fail(receiver, f"{reason}; is a receiver of OTLP there?")
    if refused := _refused(said):
        _fail(receiver, refused)


def _fail(receiver: Receiver, text: str) -> NoReturn:
    raise OutputError(f"{receiver.label}: {' '.join(text.split())}")


def _refused(body: bytes) -> str:
    """Return the points that a receiver rejected, empty if it took all."""
    with suppress(ValueError, AttributeError, TypeError, RecursionError):
        partial = json.loads(body or b"{}").get("partialSuccess", {})
        count = int(partial.get("rejectedDataPoints", 0) or 0)
        if count:
            return f"{count} points were refused: {str(partial.get('errorMessage', ''))[:200]}"
    return ""
