"""The pages of the desk: tabs, one table, and the keys that arrange it.

``Pages`` is given tables by ``source`` and shows the one that is wanted. The chosen row follows
what it stands for, and only the cells that changed are written.
"""

from collections.abc import Callable
from typing import ClassVar, Literal

from rich.text import Text
from textual import on
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Vertical
from textual.coordinate import Coordinate
from textual.events import Key
from textual.message import Message
from textual.widgets import DataTable, Input, Static, Tab, Tabs

from dunmist.desk.judgement import PAGES, PageRow, PageTable
from dunmist.desk.page_rows import (
    Arrangement,
    arranged,
    cells_of,
    heading_of,
    is_shown,
    owner_of,
    shown_columns,
)
from dunmist.desk.short_screens import ChooseColumns

# sort order of the live page, by limiting resource
SORTED_BY = {
    "disk": "disk_bytes_per_s",
    "link": "network_bytes_per_s",
    "memory": "memory_bytes",
    "swap": "memory_bytes",
}
# the first page is live
LIVE = 0
SIDES: dict[bool, Literal["left", "right"]] = {False: "left", True: "right"}
# gives the tables of a page by the number of the page
Source = Callable[[int], list[PageTable]]


class Rows(DataTable[Text]):
    """The table of a page."""

    BINDINGS: ClassVar[list[BindingType]] = [Binding("enter", "select_cursor", "open")]


class Pages(Vertical):
    """Tabs, what the table is about, the table, and the line for words."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("left", "page(-1)", "page", key_display="←→", priority=True),
        Binding("right", "page(1)", show=False, priority=True),
        Binding("s", "sort", "sort"),
        Binding("S", "turn", show=False),
        Binding("slash", "filter", "filter", key_display="/"),
        Binding("t", "table", show=False),
        Binding("c", "columns", show=False),
        Binding("e", "unfold", show=False),
        Binding("o", "owner", show=False),
        Binding("u", "units", show=False),
    ]

    class Opened(Message):
        """Somebody wants to see all of one row."""

        def __init__(self, row: PageRow) -> None:
            super().__init__()
            self.row = row

    def __init__(self, source: Source) -> None:
        super().__init__(id="body")
        self._source = source
        self.page = LIVE
        self.limiting: str | None = None
        self.is_held = False
        self._held: dict[int, list[PageTable]] = {}  # tables of a kept result, by page
        # why there may be nothing
        self.empty = "not judged yet"
        self.rows: list[PageRow] = []
        self.chosen: str | None = None  # key of the row that is chosen
        self._table_of: dict[int, int] = {}  # index of the shown table of each page
        self._wanted: dict[str, Arrangement] = {}  # by page and table

    def compose(self) -> ComposeResult:
        """Lay it out."""
        yield Tabs(*(Tab(page.title, id=f"page-{page.title}") for page in PAGES), id="pages")
        yield Static(id="about")
        yield Rows(id="table", cursor_type="row", zebra_stripes=False)
        yield Input(placeholder="words that a row must have; Enter keeps them", id="filter")

    def on_mount(self) -> None:
        """Begin with the table."""
        self.query_one("#filter", Input).display = False
        self.query_one("#table", Rows).focus()

    def tables(self) -> list[PageTable]:
        """Return the tables of the page that is open."""
        if self.is_held:
            return self._held.setdefault(self.page, self._source(self.page))
        return self._source(self.page)

    def table(self) -> PageTable | None:
        """Return the table that is shown."""
        tables = self.tables()
        return tables[self._table_of.get(self.page, 0) % len(tables)] if tables else None

    def _key(self, table: PageTable) -> str:
        return f"{self.page}/{table.name}"

    def show(self) -> None:
        """Show the table of the page; the chosen row stays chosen wherever it goes."""
        shown, about = self.query_one("#table", Rows), self.query_one("#about", Static)
        table = self.table()
        if table is None:
            shown.clear(columns=True)
            self.rows = []
            about.update(Text(self.empty, "dim"))
            return
        wanted = self._arrangement(table)
        indices = shown_columns(table, wanted)
        headings = [heading_of(table.columns[index], wanted) for index in indices]
        self._set_columns(shown, headings)
        self.rows = arranged(table, wanted)
        texts = (cells_of(table, row, wanted) for row in self.rows)
        cells = [
            [Text(row[index], justify=SIDES[table.columns[index].is_numeric]) for index in indices]
            for row in texts
        ]
        self._set_cells(shown, cells)
        keys = [row.key for row in self.rows]
        # until somebody chooses, it is whatever is first
        row = keys.index(self.chosen) if self.chosen in keys else 0
        if shown.cursor_row != row:
            shown.move_cursor(row=row, animate=False)
        self._show_about(about, table, wanted)

    def _arrangement(self, table: PageTable) -> Arrangement:
        """Return the arrangement of a table; a live one begins with the limiting resource."""
        first = SORTED_BY.get(self.limiting or "", "cores") if self.page == LIVE else None
        return self._wanted.get(self._key(table), Arrangement(sort=first))

    def _set_columns(self, shown: "DataTable[Text]", headings: list[str]) -> None:
        if [str(column.label) for column in shown.ordered_columns] != headings:
            shown.clear(columns=True)
            shown.add_columns(*headings)

    def _set_cells(self, shown: "DataTable[Text]", cells: list[list[Text]]) -> None:
        """Write the cells that changed, row by row from the top: no more is sent."""
        while shown.row_count > len(cells):
            shown.remove_row(shown.ordered_rows[-1].key)
        for index, row in enumerate(cells):
            if index >= shown.row_count:
                shown.add_row(*row)
                continue
            for column, cell in enumerate(row):
                at = Coordinate(index, column)
                before = shown.get_cell_at(at)
                if before != cell:
                    shown.update_cell_at(at, cell, update_width=len(cell) > len(before))

    def _show_about(self, about: Static, table: PageTable, wanted: Arrangement) -> None:
        tables = self.tables()
        index = self._table_of.get(self.page, 0) % len(tables)
        words = [f"{table.name}: {table.about}"]
        if len(tables) > 1:
            words.append(f"table {index + 1} of {len(tables)}, t for the next")
        if wanted.words:
            words.append(f"with '{wanted.words}'")
        if wanted.owner:
            words.append(f"only of {wanted.owner}, o for everybody")
        if self.is_held:
            words.append("held still, space goes on")
        about.update(Text("  ·  ".join(words), "dim", no_wrap=True, overflow="ellipsis"))

    @on(DataTable.RowHighlighted)
    def row_chosen(self, event: DataTable.RowHighlighted) -> None:
        """Keep which row is chosen by what it is, not where."""
        is_first = event.cursor_row == 0 and self.chosen is None
        if event.cursor_row < len(self.rows) and not is_first:
            self.chosen = self.rows[event.cursor_row].key

    @on(DataTable.HeaderSelected)
    def heading_clicked(self, event: DataTable.HeaderSelected) -> None:
        """Sort by the column whose heading was clicked."""
        if (table := self.table()) is not None:
            wanted = self._arrangement(table)
            name = table.columns[shown_columns(table, wanted)[event.column_index]].name
            self._sort_by(table, name)

    @on(Tabs.TabActivated)
    def page_chosen(self, event: Tabs.TabActivated) -> None:
        """Show a page."""
        titles = [page.title for page in PAGES]
        self.page = titles.index(event.tab.label_text)
        self.chosen = None
        self.show()
        self.query_one("#table", Rows).focus()

    def action_page(self, step: int) -> None:
        """Go to the next page or the one before."""
        if self.query_one("#filter", Input).display:
            return
        tabs = self.query_one("#pages", Tabs)
        if step > 0:
            tabs.action_next_tab()
        else:
            tabs.action_previous_tab()

    def _arrange(self, table: PageTable, wanted: Arrangement) -> None:
        self._wanted[self._key(table)] = wanted
        self.show()

    def _sort_by(self, table: PageTable, name: str) -> None:
        wanted = self._arrangement(table)
        again = wanted.sort == name
        self._arrange(
            table, wanted._replace(sort=name, ascending=not wanted.ascending if again else False)
        )

    def action_sort(self) -> None:
        """Sort by the next column."""
        if (table := self.table()) is not None:
            wanted = self._arrangement(table)
            names = [table.columns[index].name for index in shown_columns(table, wanted)]
            after = names.index(wanted.sort) + 1 if wanted.sort in names else 0
            name = names[after] if after < len(names) else None
            self._arrange(table, wanted._replace(sort=name, ascending=False))

    def action_turn(self) -> None:
        """Turn the order round."""
        if (table := self.table()) is not None:
            wanted = self._arrangement(table)
            self._arrange(table, wanted._replace(ascending=not wanted.ascending))

    def action_columns(self) -> None:
        """Choose which columns are shown."""
        table = self.table()
        if table is None:
            return
        wanted = self._arrangement(table)

        def chosen(names: frozenset[str] | None) -> None:
            if names:
                self._arrange(table, wanted._replace(columns=names))

        shown = [column.name for column in table.columns if is_shown(column, wanted)]
        self.app.push_screen(ChooseColumns(table.columns, frozenset(shown)), chosen)

    def action_unfold(self) -> None:
        """Show the processes of the chosen application below it, or no more."""
        table, row = self.table(), self.chosen_row()
        if table is None or row is None:
            return
        key = row.key if row.parts else row.key.partition("/")[0]
        if not any(each.key == key and each.parts for each in table.rows):
            self.app.bell()
            return
        wanted = self._arrangement(table)
        self.chosen = key
        self._arrange(table, wanted._replace(unfolded=wanted.unfolded ^ {key}))

    def action_owner(self) -> None:
        """Leave only what belongs to the owner of the chosen row, or show everybody's again."""
        table, row = self.table(), self.chosen_row()
        if table is None:
            return
        wanted = self._arrangement(table)
        owner = "" if wanted.owner or row is None else owner_of(table, row)
        if owner is None:
            self.app.bell()
            return
        self._arrange(table, wanted._replace(owner=owner))

    def action_units(self) -> None:
        """Show exact figures in base units, or as people write them."""
        if (table := self.table()) is not None:
            wanted = self._arrangement(table)
            self._arrange(table, wanted._replace(is_exact=not wanted.is_exact))

    def action_table(self) -> None:
        """Show the next table of the page."""
        self._table_of[self.page] = self._table_of.get(self.page, 0) + 1
        self.chosen = None
        self.show()

    def action_filter(self) -> None:
        """Ask for the words that rows must have."""
        box = self.query_one("#filter", Input)
        box.display = True
        # at once: what is typed next belongs to the words
        self.screen.set_focus(box)

    @on(Input.Changed, "#filter")
    def filtered(self, event: Input.Changed) -> None:
        """Leave only the rows that have the words."""
        if (table := self.table()) is not None:
            wanted = self._arrangement(table)
            self._arrange(table, wanted._replace(words=event.value))

    @on(Input.Submitted, "#filter")
    def filter_kept(self) -> None:
        """Go back to the table."""
        self.query_one("#filter", Input).display = False
        self.screen.set_focus(self.query_one("#table", Rows))

    def on_key(self, event: Key) -> None:
        """Escape ends typing, and takes the words away."""
        box = self.query_one("#filter", Input)
        if event.key == "escape" and box.display:
            box.value = ""
            self.filter_kept()

    @on(DataTable.RowSelected)
    def row_opened(self) -> None:
        """Say which row is to be opened."""
        if (row := self.chosen_row()) is not None:
            self.post_message(self.Opened(row))

    def chosen_row(self) -> PageRow | None:
        """Return the chosen row; until somebody chooses, it is the first."""
        first = self.rows[0] if self.rows and self.chosen is None else None
        return next((row for row in self.rows if row.key == self.chosen), first)

    def hold(self, *, is_held: bool) -> None:
        """Hold the table still, or let it go on."""
        self.is_held, self._held = is_held, {}
        if (table := self.table()) is None or not is_held:
            self.show()
            return
        self._show_about(self.query_one("#about", Static), table, self._arrangement(table))
