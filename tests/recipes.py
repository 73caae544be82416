"""The recipes of CONTRIBUTING.md, walked: what each changes, written as edits of a copy.

An edit is a file below ``src/dunmist`` and what is put into it: a text that is there already and
what takes its place, or one text for a new file. They are dummies: what they add tells nothing.
"""

NOISE = '''"""Bits of noise that the kernel has gathered (random(4))."""

from dunmist.computer.root import ParseError


def parse_noise(text: bytes) -> int:
    """Return the bits; raises ParseError."""
    if not text.strip().isdigit():
        raise ParseError("no number")
    return int(text)
'''
NOISE_RESOURCE = '''"""Resource ``noise``: is there enough of it?"""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import figure
from dunmist.diagnosis.resources.declared import Resource, ResourceInstance, flow_demand


def _instances(exam: Examination) -> list[ResourceInstance]:
    used = exam.series.machine.noise_bits.at_ends() / 4096.0
    conditions = {"busy": used.at_least(exam.limits.noise.busy)}
    evidence = [figure("noise-used", exam.typical(used))]
    return [ResourceInstance(None, used, None, conditions, evidence)]


def _demand(exam: Examination):
    return flow_demand(exam, lambda application: application.cores, "cores")


NOISE = Resource("noise", 5, _instances, _demand, None, None, follows_at_once=False)
'''
NOISE_RULE = """

@finds("little-noise")
def _noise(exam: Examination) -> list[Finding]:
    bits = exam.series.machine.noise_bits.last() or 0.0
    if bits > exam.limits.findings.noise_most_bits:
        return []
    return [Finding("little-noise", "note", None, [figure("noise", bits)])]
"""
# the last lines of the module: what is added stands behind them
UPTIME_END = '    return [Finding("restart-waiting", "note", None, [*evidence, *known])]\n'
LIST = '''"""The report as one line a section."""

from dunmist.reports.document import Document


def document_list(document: Document) -> str:
    """Return the headings."""
    return "".join(f"{section.heading}\\n" for section in document.sections)
'''

NEST = '''"""Reach a nest by the shell beside it."""

from contextlib import AbstractContextManager
from typing import NamedTuple

from dunmist.remote.channel import Connection, connection_of


class NestTransport(NamedTuple):
    """A nest."""

    label: str
    may_sample_itself: bool = False

    def open(self, every_s: float, first: str = "") -> AbstractContextManager[Connection]:
        """Run the shell."""
        return connection_of(["/bin/sh"], self.label, every_s)
'''

SOURCE = {
    "computer/noise.py": NOISE,
    "computer/__init__.py": (
        "from dunmist.computer.root import",
        "from dunmist.computer.noise import parse_noise\nfrom dunmist.computer.root import",
    ),
    "sampling/records.py": (
        "    zram_bytes: Counter | None = None  # memory held by compressed swap\n",
        "    zram_bytes: Counter | None = None  # memory held by compressed swap\n"
        "    noise_bits: int | None = None\n",
    ),
    "sampling/sources.py": (
        '    Source(\n        ("own_cpu_s", "own_rss_bytes"),',
        '    Source(("noise_bits",), "noise", _file("proc/sys/kernel/random/entropy_avail",\n'
        '           parse_noise, "noise")),\n    Source(\n        ("own_cpu_s", "own_rss_bytes"),',
        "    parse_net_dev,\n",
        "    parse_net_dev,\n    parse_noise,\n",
    ),
    "series/machine.py": (
        '        "zram_bytes",\n',
        '        "zram_bytes",\n        "noise_bits",\n',
        '            ("zram", tick.zram_bytes),\n',
        '            ("zram", tick.zram_bytes),\n            ("noise", tick.noise_bits),\n',
        "    zram_bytes: Level\n",
        "    zram_bytes: Level\n    noise_bits: Level\n",
        '            zram_bytes=single["zram"].level("value"),\n',
        '            zram_bytes=single["zram"].level("value"),\n'
        '            noise_bits=single["noise"].level("value"),\n',
    ),
    "captures/schema.py": ("MAJOR, MINOR = 1, 13", "MAJOR, MINOR = 1, 14"),
    "computer/read_paths.py": (
        '            "/proc/{uptime,stat,',
        '            "/proc/sys/kernel/random/entropy_avail",\n            "/proc/{uptime,stat,',
    ),
    "advice/wording.toml": (
        '"throttle counts" =',
        '"noise" = "how much noise there is"\n"throttle counts" =',
    ),
}
FINDING = {
    "diagnosis/words.py": (
        '    "limit-near",\n',
        '    "limit-near",\n    "little-noise",\n',
        '    "tasks",\n',
        '    "tasks",\n    "noise",\n',
    ),
    "diagnosis/findings/machine.py": (UPTIME_END, UPTIME_END + NOISE_RULE),
    "thresholds/findings.py": (
        "    paging_pages_per_s: PerSecond = 500.0\n",
        "    paging_pages_per_s: PerSecond = 500.0\n    # more is odd\n"
        "    noise_most_bits: Number = 9e9\n",
    ),
    "advice/evidence.toml": (
        "[oom-kills]\n",
        '[noise]\nunit = "count"\ncounts = "bits"\nsource = "random(4)"\n'
        'text = "there are {amount} bits of noise"\n\n[oom-kills]\n',
    ),
    "advice/wording.toml": (
        "[finding]\n",
        '[finding]\nlittle-noise = "There is little noise."\n',
        '\noom-kill = "the computer"\n',
        '\noom-kill = "the computer"\nlittle-noise = "noise"\n',
    ),
    "advice/ladder.toml": ("\n[finding]\n", '\n[finding]\nlittle-noise = ["clap-hands"]\n'),
}
STEP = {
    "advice/ladder.toml": (
        "[step.wait]\n",
        '[step.clap-hands]\ntext = "Clap your hands."\nrisk = "none"\ncheck = "there is noise"\n'
        'act = "clap"\n\n[step.wait]\n',
        '    "keep-evidence", ',
        '    "keep-evidence", "clap-hands", ',
    ),
    "advice/acts.py": ('    "resume",\n', '    "resume",\n    "clap",\n'),
    "fixing/verbs.py": (
        "VERB_RULES: Mapping",
        "def _clap(act: Act, targets: list[Target], root: Root) -> Result:\n"
        '    return Result("clapped once", True)\n\n\nVERB_RULES: Mapping',
        '    "resume": VerbRule(check',
        '    "clap": VerbRule(check_nothing, _clap, None, "Hands were clapped."),\n'
        '    "resume": VerbRule(check',
    ),
}
COLUMN = {
    "tables/cores.py": (
        '        Column("clock_hz",',
        '        Column("idle_share", "share", "share of its time in which it idled",\n'
        '            lambda row: row.cpu.share("idle").mean()),\n'
        '        Column("clock_hz",',
    )
}
FORMAT = {
    "reports/headings.py": LIST,
    "reports/writing.py": (
        '    ".md": document_markdown,\n',
        '    ".md": document_markdown,\n    ".list": document_list,\n',
        "from dunmist.reports.markdown",
        "from dunmist.reports.headings import document_list\nfrom dunmist.reports.markdown",
    ),
}
RESOURCE = {
    "diagnosis/words.py": (
        '"heat", "gpu", "power"',
        '"heat", "gpu", "power", "noise"',
        '    "gpu-busy",\n',
        '    "gpu-busy",\n    "noise-used",\n',
    ),
    "diagnosis/resources/noise.py": NOISE_RESOURCE,
    "diagnosis/resources/__init__.py": (
        "HEAT, GRAPHICS)",
        "HEAT, GRAPHICS, NOISE)",
        "from dunmist.diagnosis.resources.one_core",
        "from dunmist.diagnosis.resources.noise import NOISE\n"
        "from dunmist.diagnosis.resources.one_core",
    ),
    "thresholds/resources.py": (
        "class ResourceLimits(",
        "class NoiseLimits(Figures, frozen=True):\n"
        '    """How much noise is much."""\n\n    # half is much\n    busy: Share = 0.5\n\n\n'
        "class ResourceLimits(",
        "    gpu: GraphicsLimits = GraphicsLimits()\n",
        "    gpu: GraphicsLimits = GraphicsLimits()\n    noise: NoiseLimits = NoiseLimits()\n",
    ),
    "advice/resources.toml": (
        "[gpu]\n",
        '[noise]\nname = "noise"\ndrives = "makes {amount} of it"\n'
        'owner = "It was too quiet."\nowner_watch = "Tell us if it becomes loud."\n\n'
        '[noise.evidence.noise-used]\nunit = "share"\nsource = "random(4)"\n'
        'text = "{amount} of the noise is there"\n\n[gpu]\n',
    ),
}
TRANSPORT = {
    "remote/nest_transport.py": NEST,
    "cli/remote_options.py": (
        "def _command(",
        'def _nest(value: str, sudo: bool) -> "Transport":\n'
        "    from dunmist.remote.nest_transport import NestTransport\n\n"
        "    return NestTransport(value)\n\n\ndef _command(",
        '    TransportOption(\n        "via",',
        '    TransportOption("nest", "NAME", "Sample a nest.", _nest),\n'
        '    TransportOption(\n        "via",',
    ),
}
# by the heading of the recipe
RECIPES = {
    "A new source of facts": SOURCE,
    "A new kind of finding": FINDING,
    "A new step, or a kind of program": STEP,
    "A new view, picture or column": COLUMN,
    "A new format of the report": FORMAT,
    "A new resource": RESOURCE,
    "A new way to a remote computer": TRANSPORT,
}
# how many files each may take; one that takes more declares something twice
MOST_FILES = {
    "A new source of facts": 8,
    "A new kind of finding": 6,
    "A new step, or a kind of program": 3,
    "A new view, picture or column": 1,
    "A new format of the report": 2,
    "A new resource": 5,
    "A new way to a remote computer": 2,
}


def walk(package, recipe):
    """Change a copy of the package as a recipe says; a place that is not there is an error."""
    for name, edit in recipe.items():
        path = package / name
        if isinstance(edit, str):
            if path.exists():
                raise AssertionError(f"{name} is there already")
            path.write_text(edit)
            continue
        text = path.read_text()
        for old, new in zip(edit[::2], edit[1::2], strict=True):
            if text.count(old) < 1:
                raise AssertionError(f"{name} has no place {old!r}")
            text = text.replace(old, new, 1)
        path.write_text(text)
