"""The rows of a table as people keep it: CSV (RFC 4180, and what passes for it), or a spreadsheet."""

from __future__ import annotations

import io
import re
from collections.abc import Callable

from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import MAX_SIZE, Origin

#: A table of more rows is refused: nothing of it would be read in silence only in part.
MAX_ROWS = 1_000_000
_BAR = "|"
#: A cell of the line below the heading of a table drawn with bars.
_RULE = re.compile(r"\s*[:=+-]*\s*")

#: A row: its number in the file (from 1) and its cells.
Row = tuple[int, list[str]]


def csv_rows(data: bytes, path: str, most: int = MAX_ROWS) -> list[Row]:
    """The rows of CSV with any of the usual separators and encodings. Raises :class:`InputError` with the line."""
    import csv

    text = _decoded(data, path)
    separator = _separator(text)
    drawn = separator == _BAR
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    rows: list[Row] = []
    begun = 1
    try:
        for cells in reader:
            # A quoted cell may hold line breaks: the row is where it begins.
            if len(rows) >= most:
                raise InputError(f"more than {most} rows", file=path, line=begun)
            if not drawn:
                rows.append((begun, cells))
            elif not all(_RULE.fullmatch(cell) for cell in cells):
                # A table drawn with bars: blanks pad its cells, and its edges are none.
                rows.append((begun, [cell.strip() for cell in cells]))
            begun = reader.line_num + 1
    except csv.Error as error:
        raise InputError(f"not CSV: {error}", file=path, line=begun) from None
    return rows


def _decoded(data: bytes, path: str) -> str:
    """UTF-8 or UTF-16 with its mark, UTF-8 without, else Windows' western code page."""
    for mark, encoding in ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16")):
        if data.startswith(mark):
            try:
                return data.decode(encoding)
            except UnicodeDecodeError as error:
                raise InputError(f"byte {error.start + 1} is not {encoding}", file=path) from None
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


def _separator(text: str) -> str:
    """The mark that splits most of the first lines into the same number of cells."""
    lines = [line for line in text.splitlines()[:50] if line.strip()]
    best, best_score = ",", 0.0
    for mark in (",", ";", "\t", _BAR):
        counts = [line.count(mark) for line in lines]
        usual = max(set(counts), key=counts.count) if counts else 0
        score = usual * counts.count(usual) / len(counts) if counts else 0.0
        if score > best_score:
            best, best_score = mark, score
    return best


def spreadsheet_rows(
    data: bytes, origin: Origin, unread: list[str], is_list: Callable[[list[Row]], bool], most: int = MAX_ROWS
) -> list[Row]:
    """The rows of the sheet for which ``is_list`` holds; the names of others that hold something go to ``unread``.

    Raises :class:`InputError`.
    """
    import zipfile

    import openpyxl

    path = origin.path
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            if sum(entry.file_size for entry in archive.infolist()) > 4 * MAX_SIZE:
                raise InputError("unpacked, this spreadsheet would be too large", file=path)
        book = openpyxl.load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        # What a formula amounts to is in the file only where the program that wrote it has worked it out.
        formulas = openpyxl.load_workbook(io.BytesIO(data), read_only=True)
        names = book.sheetnames
        wanted = origin.options.get("sheet")
        if wanted is not None and wanted not in names:
            raise InputError(f"there is no sheet {wanted!r}", file=path, expected="one of " + ", ".join(names))
        sheets: dict[str, list[Row]] = {}
        for name in [wanted] if wanted is not None else names:
            values = book[name].iter_rows(values_only=True, max_row=most + 1)
            written = formulas[name].iter_rows(values_only=True, max_row=most + 1)
            rows = (
                [_cell(v if v is not None else w) for v, w in zip(value, text, strict=False)]
                for value, text in zip(values, written, strict=False)
            )
            sheets[name] = list(enumerate(rows, 1))
            if len(sheets[name]) > most:
                raise InputError(f"more than {most} rows in the sheet {name}", file=path, line=most + 1)
    except InputError:
        raise
    except Exception as error:  # openpyxl raises whatever its own parts do
        raise InputError(f"this spreadsheet cannot be read: {type(error).__name__}", file=path) from None
    fitting = [n for n, rows in sheets.items() if wanted is not None or is_list(rows)]
    if len(fitting) > 1:
        raise InputError(
            "several sheets could be the list: " + ", ".join(fitting),
            file=path,
            remedy=f"name one in the plan: `- {{address-list: {origin.shown}, sheet: {fitting[0]}}}`",
        )
    chosen = fitting[0] if fitting else next(iter(sheets), "")
    unread += [name for name, rows in sheets.items() if name != chosen and any(any(cells) for _, cells in rows)]
    unread += [name for name in names if name not in sheets]
    return sheets.get(chosen, [])


def _cell(value: object) -> str:
    if value is None:
        return ""
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)
