"""Makes everything that knows the recording file's layout from its one description, ``model/format.toml``.

python tools/make_layout.py           writes the files anew
python tools/make_layout.py --check   says which are stale, and exits with 1 where any is
"""

from __future__ import annotations

import sys
import tomllib
from pathlib import Path
from typing import Any

SOURCE = Path(__file__).parents[1] / "src" / "ricerca"
DOCS = Path(__file__).parents[1] / "docs" / "formats.md"
DESCRIPTION = SOURCE / "model" / "format.toml"
BEGIN, END = "made from model/format.toml by make layout", "end of what make layout makes"

C_TYPES = {"u2": "uint16_t", "u4": "uint32_t", "u8": "uint64_t", "f8": "double", "work": "work_record"}
SIZES = {"u2": 2, "u4": 4, "u8": 8, "f8": 8}
DOC_TYPES = {"u2": "u16", "u4": "u32", "u8": "u64", "f8": "f64", "work": "2 × u64"}


def size_of(kind: str) -> int:
    """Bytes of a field's type."""
    if kind.startswith("c"):
        return int(kind[1:])
    return 16 if kind == "work" else SIZES[kind]


def record_bytes(fields: list[list[str]]) -> int:
    """Bytes of a record; one without fields is a byte."""
    return sum(size_of(field[1]) for field in fields) or 1


def offsets(fields: list[list[str]]) -> list[int]:
    """Offset of each field; raises where one is not naturally aligned."""
    found, at = [], 0
    for name, kind, *_ in fields:
        size = size_of(kind)
        align = 1 if kind.startswith("c") else min(size, 8)
        if at % align:
            raise ValueError(f"{name} is not aligned")
        found.append(at)
        at += size
    return found


def c_fields(fields: list[list[str]]) -> list[str]:
    """The members of a C struct."""
    lines = []
    for name, kind, *doc in fields:
        member = f"char {name}[{kind[1:]}];" if kind.startswith("c") else f"{C_TYPES[kind]} {name};"
        lines.append(f"    {member}" + (f" /* {doc[0].replace('`', '')} */" if doc else ""))
    return lines


def c_header(about: dict[str, Any]) -> str:
    """The C header."""
    records = {record["name"]: record for record in about["record"]}
    out = [f"/* The recording file: {BEGIN}. Little-endian, naturally aligned. */"]
    out += ["#ifndef RICERCA_LAYOUT_H", "#define RICERCA_LAYOUT_H", "", "#include <stdint.h>", ""]
    out += [f'#define RICERCA_MAGIC "{about["magic"]}"', f"#define RICERCA_FORMAT {about['format']}u"]
    out += [f"#define RICERCA_ENDIAN 0x{about['endian']:08X}u", f"#define HEADER_BYTES {about['header_bytes']}u"]
    out += [f"#define DIRECTORY_OFFSET {about['directory_offset']}u", f"#define MOST_SLICES {about['most_slices']}u"]
    out += [f"#define LIGHT_UNKNOWN {about['light_unknown']}u", ""]
    out += ["enum {"] + [f"    STATE_{name} = {value}," for name, value in about["states"].items()] + ["};", "", "enum {"]
    out += [f"    FLAG_{name} = 1u << {bit}, /* {doc} */" for name, (bit, _cut, doc) in about["flags"].items()] + ["};", ""]
    for prefix, group in (("CLOCK", "clocks"), ("HOOK", "hooks"), ("CONTROL", "controls")):
        out += ["enum {"] + [f"    {prefix}_{name} = {value}," for name, value in about[group].items()] + ["};", ""]
    out += ["enum {"] + [f"    KIND_{name} = {value}, /* {doc} */" for name, (value, doc) in about["kinds"].items()] + ["};", ""]
    out += ["enum {"] + [f"    TABLE_{table['name'].upper()}," for table in about["table"]] + ["    TABLE_COUNT", "};", ""]
    row, work, header = records["table_row"], records["work"], records["header"]
    for record, name in ((row, "table_row"), (work, "work_record"), (header, "header")):
        out += [f"/* {record['doc']} */", "typedef struct {", *c_fields(record["fields"]), f"}} {name};", ""]
    for table in about["table"]:
        if "fields" in table:
            out += [f"/* {table['doc']} */"] if "doc" in table else []
            out += ["typedef struct {", *c_fields(table["fields"]), f"}} {table['c_name']};", ""]
            out += [f'_Static_assert(sizeof({table["c_name"]}) == {record_bytes(table["fields"])}, "a record has gaps");', ""]
    out += [f'_Static_assert(sizeof(header) == {record_bytes(header["fields"])}, "the header has gaps");']
    out += ['_Static_assert(sizeof(header) <= DIRECTORY_OFFSET, "the header runs into the directory");', "", "#endif", ""]
    return "\n".join(out)


def marks(about: dict[str, Any]) -> str:
    """The values that all of Ricerca shares."""
    out = [f'"""Kinds, flags and other marks of a recording: {BEGIN}."""', ""]
    out += [f"STATE_{name} = {value}" for name, value in about["states"].items()] + [""]
    out += [f"FLAG_{name} = 1 << {bit}" for name, (bit, _cut, _doc) in about["flags"].items()] + [""]
    cut = [f"FLAG_{name}" for name, (_bit, is_cut, _doc) in about["flags"].items() if is_cut]
    out += [
        "CUT_FLAGS = (",
        "    " + "\n    | ".join(cut),
        ")",
        '"""A table was full: what came after it is counted less finely or not at all."""',
        "",
    ]
    out += [f"KIND_{name} = {value}" for name, (value, _doc) in about["kinds"].items()] + [""]
    out += [f"CONTROL_{name} = {value}" for name, value in about["controls"].items()] + [""]
    hooks = ", ".join(f'{value}: "{name.lower()}"' for name, value in about["hooks"].items())
    header = next(record["fields"] for record in about["record"] if record["name"] == "header")
    at = dict(zip((field[0] for field in header), offsets(header), strict=True))
    out += [f"END_MONO_NS_OFFSET = {at['end_mono_ns']}", f"CONTROL_OFFSET = {at['control']}", ""]
    out += [f"HOOKS = {{{hooks}}}", f"MOST_SLICES = {about['most_slices']}", f"LIGHT_UNKNOWN = 0x{about['light_unknown']:X}", ""]
    return "\n".join(out)


def python_fields(fields: list[list[str]]) -> list[str]:
    """The fields of a NumPy record."""
    names = {"u2": '"<u2"', "u4": '"<u4"', "u8": '"<u8"', "f8": '"<f8"', "work": "WORK"}
    return [f'        ("{name}", {names.get(kind) or chr(34) + "S" + kind[1:] + chr(34)}),' for name, kind, *_ in fields]


def python_layout(about: dict[str, Any]) -> str:
    """The records as NumPy sees them."""
    records = {record["name"]: record for record in about["record"]}
    out = [f'"""The recording file as NumPy records: {BEGIN} (see docs/formats.md)."""', ""]
    out += ["from __future__ import annotations", "", "import numpy as np", ""]
    out += [f'MAGIC = b"{about["magic"]}\\0"', f"FORMAT = {about['format']}", f"ENDIAN = 0x{about['endian']:08X}"]
    out += [f"HEADER_BYTES = {about['header_bytes']}", f"DIRECTORY_OFFSET = {about['directory_offset']}", ""]
    for name, constant in (("work", "WORK"), ("header", "HEADER"), ("table_row", "TABLE_ROW")):
        out += [f"{constant} = np.dtype(", "    [", *python_fields(records[name]["fields"]), "    ]", ")", ""]
    for table in about["table"]:
        if "fields" in table:
            out += [f"{table['name'].upper()} = np.dtype(", "    [", *python_fields(table["fields"]), "    ]", ")", ""]
    out += ["RECORDS = {"]
    out += [
        f'    "{t["name"]}": {t["name"].upper() if "fields" in t else "np.dtype(" + chr(34) + "u1" + chr(34) + ")"},'
        for t in about["table"]
    ]
    return "\n".join([*out, "}", ""])


def hook_constants(about: dict[str, Any]) -> str:
    """What the recorder in Python needs: places are in units of the field's own size (4 or 8 bytes)."""
    header = next(record["fields"] for record in about["record"] if record["name"] == "header")
    tables = about["table"]
    out = [f'MAGIC, FORMAT, ENDIAN = b"{about["magic"]}\\0", {about["format"]}, 0x{about["endian"]:08X}']
    out += [f"HEADER_BYTES, DIRECTORY = {about['header_bytes']}, {about['directory_offset']}"]
    out += [f"{name} = {value}" for name, (value, _doc) in about["kinds"].items()]
    out += [f"HOOK_PYTHON = {about['hooks']['PYTHON']}", f"CLOCK_MONO = {about['clocks']['MONO']}"]
    out += [f"CONTROL_{name} = {value}" for name, value in about["controls"].items()]
    out += [f"FLAG_{name} = {1 << bit}" for name, (bit, _cut, _doc) in about["flags"].items()]
    out += [f"{', '.join(table['name'].upper() for table in tables)} = range({len(tables)})"]
    out += [f"RECORD_BYTES = ({', '.join(str(record_bytes(table.get('fields', []))) for table in tables)})"]
    out += [f"NAMES = ({', '.join('b' + chr(34) + table['name'] + chr(34) for table in tables)})"]
    out += ["FULL_FLAGS = (", *(f"    FLAG_{table['name'].upper()}_FULL," for table in tables), ")"]
    for group, fields in (("HEAD", header), *((table["name"][:-1].upper(), table["fields"]) for table in tables if "fields" in table)):
        for (name, kind, *_), at in zip(fields, offsets(fields), strict=True):
            if kind in ("u4", "u8", "f8"):
                out += [f"{group}_{name.upper()} = {at // size_of(kind)}"]
    return "\n".join(out) + "\n"


def docs(about: dict[str, Any]) -> str:
    """The tables of docs/formats.md."""
    header = next(record["fields"] for record in about["record"] if record["name"] == "header")
    out = ["| offset | type | field | meaning |", "|--:|---|---|---|"]
    for (name, kind, *doc), at in zip(header, offsets(header), strict=True):
        out += [f"| {at} | {DOC_TYPES.get(kind) or kind[1:] + ' bytes'} | {name} | {doc[0] if doc else ''} |"]
    flags = [f"{1 << bit} {doc}" for bit, _cut, doc in about["flags"].values()]
    kinds = [f"{value} {doc}" for value, doc in about["kinds"].values()]
    out += ["", "Flags: " + "; ".join(flags) + ".", "", "Kinds of functions: " + "; ".join(kinds) + ".", ""]
    out += ["| table | bytes | record |", "|---|--:|---|"]
    for table in about["table"]:
        named = [f"`{name}` {DOC_TYPES[kind]}" + (f" ({doc[0]})" if doc else "") for name, kind, *doc in table.get("fields", [])]
        about_it = "; ".join(filter(None, [table.get("doc", ""), ", ".join(named)]))
        out += [f"| {table['name']} | {record_bytes(table.get('fields', []))} | {about_it} |"]
    return "\n".join(out) + "\n"


def put_between(text: str, made: str, begin: str, end: str) -> str:
    """A text with what lies between two of its lines made anew."""
    first, last = text.index(begin) + len(begin), text.index(end)
    return text[:first] + "\n" + made + text[last:]


def made_files() -> dict[Path, str]:
    """Every file that is made, with its text."""
    about = tomllib.loads(DESCRIPTION.read_text("utf-8"))
    hook = SOURCE / "recorder" / "pure" / "hook.py"
    return {
        SOURCE / "recorder" / "native" / "layout.h": c_header(about),
        SOURCE / "model" / "marks.py": marks(about),
        SOURCE / "recording" / "layout.py": python_layout(about),
        hook: put_between(hook.read_text("utf-8"), hook_constants(about), f"# ---- {BEGIN}", f"# ---- {END}"),
        DOCS: put_between(DOCS.read_text("utf-8"), docs(about), f"<!-- {BEGIN} -->", f"<!-- {END} -->"),
    }


def main() -> int:
    """Write the files, or check them."""
    stale = [path for path, text in made_files().items() if not path.exists() or path.read_text("utf-8") != text]
    for path in stale:
        if "--check" in sys.argv:
            print(f"{path.relative_to(SOURCE.parents[1])} is stale: run make layout")
        else:
            path.write_text(made_files()[path], "utf-8")
    return 1 if stale and "--check" in sys.argv else 0


if __name__ == "__main__":
    sys.exit(main())
