"""The report as one self-contained HTML file; all text is escaped by the template engine."""

from importlib.resources import files

from jinja2 import Environment, FunctionLoader, StrictUndefined
from markupsafe import Markup, escape

from dunmist import __version__
from dunmist.advice import freed_text
from dunmist.reports.document import Document, Figure


def document_html(document: Document) -> str:
    """Return the document as HTML."""
    environment = Environment(
        loader=FunctionLoader(_template),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
        undefined=StrictUndefined,
        finalize=_unbroken,
    )
    environment.filters["kind"] = lambda block: type(block).__name__
    environment.filters["freed"] = lambda frees: freed_text(frees.value, frees.unit)
    # escaped here, so that no blank in what may be pasted is exchanged
    environment.filters["verbatim"] = escape
    # figures are made here from numbers and escaped labels, by Matplotlib
    environment.filters["drawn"] = _drawn
    environment.filters["steps"] = _steps
    template = environment.get_template("report.html")
    return template.render(document=document, version=__version__)


def _drawn(figure: Figure) -> Markup:
    from dunmist.reports.pictures import svg_text

    return Markup(svg_text(figure.draw()))


def _steps(shares: list[float | None]) -> Markup:
    """Return the path of a curve of steps in a box of 100 by 20, closed at its foot."""
    if not shares:
        return Markup("")
    wide = 100 / len(shares)
    parts = []
    for place, share in enumerate(shares):
        top = 20 - 19 * (share or 0.0)
        parts.append(f"L{place * wide:.1f} {top:.1f}L{(place + 1) * wide:.1f} {top:.1f}")
    return Markup(f"M0 20{''.join(parts)}L100 20Z")  # numbers only


def _unbroken(value: object) -> object:
    # no line break between a number and its percent sign
    return value.replace(" %", "\u00a0%") if type(value) is str else value


def _template(name: str) -> str:
    return (files("dunmist.reports") / "templates" / name).read_text(encoding="utf-8")
