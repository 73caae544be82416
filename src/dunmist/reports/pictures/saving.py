"""Writes a picture as PNG or SVG, whole or not at all."""

import io
import re
from pathlib import Path

from matplotlib import rc_context
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure

from dunmist.errors import OutputError
from dunmist.output import write_whole
from dunmist.reports.pictures.style import FAINT, INK, SETTINGS
from dunmist.reports.styles import LEVEL_LOOKS

ENDINGS = (".png", ".svg")
DOTS_PER_INCH = 130


def check_picture(path: Path) -> None:
    """Raise OutputError unless the ending of a name is that of a picture."""
    if path.suffix.lower() not in ENDINGS:
        raise OutputError(f"{path}: unknown picture ending; use {' or '.join(ENDINGS)}")


def save_picture(figure: Figure, path: Path, *, force: bool = False) -> None:
    """Write a figure into a file of its own ending; raises OutputError."""
    written = io.BytesIO()
    form = path.suffix.lower().removeprefix(".")
    with rc_context(SETTINGS):
        figure.savefig(
            written,
            format=form,
            dpi=DOTS_PER_INCH,
            metadata={"Date": None} if form == "svg" else None,
        )
    write_whole(path, written.getvalue(), force=force)


def _lay_out(figure: Figure) -> None:
    """Lay out a figure's panels; ``savefig`` would draw all of it once more for that."""
    engine = figure.get_layout_engine()
    if engine is not None:
        engine.execute(figure)
        figure.set_layout_engine("none")


def png_bytes(figure: Figure, dots_per_inch: int = DOTS_PER_INCH) -> bytes:
    """Return a figure as a PNG file."""
    written = io.BytesIO()
    with rc_context(SETTINGS):
        figure.set_dpi(dots_per_inch)
        _lay_out(figure)
        canvas = FigureCanvasAgg(figure)
        canvas.print_png(written)  # type: ignore[no-untyped-call]
    return written.getvalue()


def svg_text(figure: Figure) -> str:
    """Return a figure as an SVG element for a page; its ink and levels are those of the page."""
    written = io.StringIO()
    with rc_context(SETTINGS):
        _lay_out(figure)
        figure.patch.set_visible(False)
        for panel in figure.axes:
            panel.patch.set_visible(False)
        canvas = FigureCanvasSVG(figure)
        canvas.print_svg(written, metadata={"Date": None})  # type: ignore[no-untyped-call]
    svg = re.sub(r"^.*?(?=<svg )", "", written.getvalue(), flags=re.S)
    for word, look in LEVEL_LOOKS.items():
        svg = svg.replace(look.page, f"var(--{word})")
    return re.sub(f"{INK}|{FAINT}", "currentColor", svg)
