"""A bus with a service manager on it, as far as the D-Bus Specification and its clients need it.

It knows the few calls that are asked of org.freedesktop.systemd1 and answers from a table.
"""

import copy
import socket
import threading
import time
from fnmatch import fnmatch

from jeepney import HeaderFields, MessageType, Parser, new_error, new_method_return

UNITS = [
    ("tern.service", "Counts terns", "loaded", "active", "running", "", "/u/tern", 0, "", "/"),
    ("auk.service", "Auk", "loaded", "activating", "auto-restart", "", "/u/auk", 0, "", "/"),
    (
        "plover.service",
        "Plover",
        "loaded",
        "deactivating",
        "stop-sigterm",
        "",
        "/u/plover",
        0,
        "",
        "/",
    ),
    ("gannet.service", "Gannet", "loaded", "reloading", "reload", "", "/u/gannet", 0, "", "/"),
    ("night.timer", "Nightly", "loaded", "active", "waiting", "", "/u/night", 0, "", "/"),
    ("old.service", "Old", "not-found", "inactive", "dead", "", "/u/old", 0, "", "/"),
    ("srv.mount", "Disk", "loaded", "active", "mounted", "", "/u/srv", 0, "", "/"),
]
PROPERTIES = {
    ("/u/tern", "Unit"): {
        "StateChangeTimestamp": ("t", 1_900_000_000_000_000),
        "ActiveState": ("s", "active"),
        "UnitFileState": ("s", "enabled"),
    },
    ("/u/tern", "Service"): {
        "MainPID": ("u", 4711),
        "NRestarts": ("u", 3),
        "CPUQuotaPerSecUSec": ("t", 1_800_000),
        "Result": ("s", "success"),
    },
    ("/u/auk", "Unit"): {"StateChangeTimestamp": ("t", 0)},
    ("/u/auk", "Service"): {"MainPID": ("u", 0), "NRestarts": ("u", 41), "Result": ("s", "signal")},
    ("/s/1", "Session"): {
        "Name": ("s", "isbister"),
        "Class": ("s", "user"),
        "Type": ("s", "x11"),
        "Display": ("s", ":0"),
        "Timestamp": ("t", 1_900_000_000_000_000),
        "IdleHint": ("b", True),
        "IdleSinceHint": ("t", 1_900_000_300_000_000),
        "Leader": ("u", 900),
        "Active": ("b", True),
    },
    ("/s/2", "Session"): {"Name": ("s", "gdm"), "Class": ("s", "greeter")},
    ("/u/night", "Timer"): {
        "Unit": ("s", "tern.service"),
        "NextElapseUSecRealtime": ("t", 2**64 - 1),
        "LastTriggerUSec": ("t", 1_900_000_100_000_000),
    },
}


def path_of(unit):
    """Return the object of a unit; a hyphen is none of the characters that a path may have."""
    return f"/u/{unit.partition('.')[0].replace('-', '_2d')}"


class StandIn(threading.Thread):
    """Serves connections to a socket file until it is closed; may break off in the middle.

    It does what it is told, but for those that hang while they stop (``hangs``); ``slow_s`` is how
    long it takes to answer about a single unit.
    """

    def __init__(self, path, *, answers=999, hangs=False, slow_s=0.0):
        super().__init__(daemon=True)
        self.listener = socket.socket(socket.AF_UNIX)
        self.listener.bind(str(path))
        self.listener.listen()
        self.answers = answers
        self.hangs = hangs
        self.slow_s = slow_s
        self.properties = copy.deepcopy(PROPERTIES)
        self.more = []
        self.calls = []

    def run(self):
        while True:
            try:
                connection, _ = self.listener.accept()
            except OSError:
                return
            with connection:
                self.serve(connection)

    def close(self):
        self.listener.shutdown(socket.SHUT_RDWR)
        self.listener.close()
        self.join()

    def serve(self, connection):
        connection.recv(1)
        line = b""
        while not line.endswith(b"BEGIN\r\n"):
            line += connection.recv(1)
            if line.endswith(b"\r\n") and b"AUTH" in line:
                connection.sendall(b"OK 0123456789abcdef0123456789abcdef\r\n")
                line = b""
            elif line.endswith(b"FD\r\n"):
                connection.sendall(b"ERROR\r\n")
                line = b""
        parser, left = Parser(), self.answers
        while data := connection.recv(65536):
            parser.add_data(data)
            while message := parser.get_next_message():
                if message.header.message_type is MessageType.method_call and left:
                    left -= 1
                    self.calls.append((message.header.fields[HeaderFields.member], message.body))
                    connection.sendall(self.answer(message).serialise(serial=left + 1))
                elif not left:
                    return

    def answer(self, call):
        fields = call.header.fields
        method, path = fields[HeaderFields.member], fields[HeaderFields.path]
        if method == "Hello":
            return new_method_return(call, "s", (":1.1",))
        if method == "ListUnitsByPatterns":
            _, patterns = call.body
            rows = [
                row
                for row in [*UNITS, *self.more]
                if any(fnmatch(row[0], pattern) for pattern in patterns)
            ]
            return new_method_return(call, "a(ssssssouso)", (rows,))
        if method == "GetDefaultTarget":
            return new_method_return(call, "s", ("desk.target",))
        time.sleep(self.slow_s)
        if method == "Get":
            interface, word = call.body
            words = self.properties.get((path, interface.rpartition(".")[2]), {})
            if word not in words:
                return new_error(call, "org.freedesktop.DBus.Error.UnknownProperty")
            return new_method_return(call, "v", (words[word],))
        if method == "ListSessions":
            rows = [("1", 1004, "isbister", "seat0", "/s/1"), ("2", 120, "gdm", "seat0", "/s/2")]
            return new_method_return(call, "a(susso)", (rows,))
        if method == "LoadUnit":
            return new_method_return(call, "o", (path_of(call.body[0]),))
        if method in ("RestartUnit", "StopUnit", "StartUnit"):
            state = "inactive" if method == "StopUnit" else "active"
            if self.hangs and state == "inactive":
                state = "deactivating"
            self.unit(call)["ActiveState"] = ("s", state)
            return new_method_return(call, "o", ("/j/1",))
        if method == "SetUnitProperties":
            self.unit(call, "Service").update(call.body[2])
        if method in ("SetUnitProperties", "Reload"):
            return new_method_return(call)
        if method in ("DisableUnitFiles", "EnableUnitFiles"):
            state = "enabled" if method.startswith("Enable") else "disabled"
            self.unit(call)["UnitFileState"] = ("s", state)
            changes = [("unlink", "/etc/systemd/system/x", "")]
            enabled = (True, changes) if method.startswith("Enable") else (changes,)
            return new_method_return(call, "a(sss)" if len(enabled) == 1 else "ba(sss)", enabled)
        interface = call.body[0].rpartition(".")[2] if method == "GetAll" else ""
        if (path, interface) in self.properties:
            return new_method_return(call, "a{sv}", (self.properties[path, interface],))
        if method == "GetAll":
            return new_method_return(call, "a{sv}", ({},))
        return new_error(call, "org.freedesktop.DBus.Error.UnknownMethod", "s", (method,))

    def unit(self, call, interface="Unit"):
        """Return what is said of the unit that a call is about."""
        name = call.body[0]
        name = name[0] if isinstance(name, list) else name
        return self.properties.setdefault((path_of(name), interface), {})
