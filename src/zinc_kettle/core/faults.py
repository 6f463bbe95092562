"""What can go wrong with a request: one code for each, one table for driver, retry policy and screen."""

from __future__ import annotations

FAULTS: dict[str, str] = {
    "refused": "nothing listens at the address, or the host name is unknown",
    "connect-timeout": "no connection within its limit",
    "tls": "the server's certificate could not be verified",
    "reset": "the connection broke before the answer's headers",
    "broken": "the connection broke in the middle of the answer",
    "no-end": "the stream ended without its end marker",
    "stall": "no byte for longer than the study allows",
    "timeout": "no end within the limit for one request",
    "wrong-type": "the answer is not an event stream",
    "too-large": "a header, a line or an event is implausibly large",
    "unreadable": "the answer is not in the protocol: broken JSON or UTF-8, or wrong framing",
    "endless": "far more output came than was requested",
    "empty": "the answer ended properly but carried no output",
    "engine-error": "the engine reported an error in its stream",
    "crowded": "more requests were open than this machine can hold",
    "stopped": "stopped by a person or by the tool",
}
"""Code and meaning. Answers with a failed status have the code `http-` and its number."""
STATUS_PREFIX = "http-"


def is_fault(code: str) -> bool:
    """True for a code of the table, and for `http-400` to `http-599`."""
    number = code.removeprefix(STATUS_PREFIX)
    return code in FAULTS or (code.startswith(STATUS_PREFIX) and number.isdecimal() and 400 <= int(number) <= 599)


def meaning(code: str) -> str:
    """What a code says, in a clause."""
    if code.startswith(STATUS_PREFIX):
        return f"the server answered with HTTP status {code.removeprefix(STATUS_PREFIX)}"
    return FAULTS.get(code, "the request failed")
