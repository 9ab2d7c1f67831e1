"""What lies at the addresses of compiled code: names from its symbols, files and lines from its debugging information."""

from __future__ import annotations

import ctypes
import os
import re
from bisect import bisect_right
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

C, CPP, FORTRAN, COMPILED = "C", "C++", "Fortran", "compiled code"
_LANGUAGES = {**dict.fromkeys((0x1, 0x2, 0xC, 0x1D, 0x2C), C), **dict.fromkeys((0x4, 0x1A, 0x21, 0x2B), CPP),
              **dict.fromkeys((0x7, 0x8, 0xE, 0x22, 0x23, 0x2D), FORTRAN)}  # fmt: skip
_OF_MODULE = re.compile(r"__(\w+?)_MOD_(\w+)$")
_CLONE = re.compile(r"\.(constprop|isra|part|cold|lto_priv)(\.\d+)*")


@dataclass(frozen=True)
class CodePlace:
    """A place in compiled code; ``line`` is 0 and ``file`` empty where nothing is known of them."""

    name: str
    file: str
    line: int
    language: str


def readable(name: str, language: str) -> str:
    """A symbol as its language writes it.

    >>> readable("_ZN4tide3fitEi", CPP), readable("__waves_MOD_height", FORTRAN), readable("fit.constprop.0", C)
    ('tide::fit(int)', 'waves.height', 'fit')
    >>> readable("sum_", FORTRAN), readable("MAIN__", FORTRAN)
    ('sum', 'main program')
    """
    name = _CLONE.sub("", name)
    if name.startswith("_Z"):
        return _demangled(name)
    if language == FORTRAN:
        of_module = _OF_MODULE.match(name)
        return "main program" if name == "MAIN__" else ".".join(of_module.groups()) if of_module else name.removesuffix("_")
    return name


@lru_cache
def _demangler() -> Any:
    try:
        demangle = ctypes.CDLL("libstdc++.so.6").__cxa_demangle
    except (OSError, AttributeError):
        return None
    demangle.restype = ctypes.c_void_p
    return demangle


def _demangled(name: str) -> str:
    """A C++ symbol as C++ writes it; as it is where the C++ library is not there."""
    demangle = _demangler()
    if demangle is None:
        return name
    status = ctypes.c_int()
    found = demangle(name.encode(), None, None, ctypes.byref(status))
    if not found or status.value:
        return name
    text = ctypes.string_at(found).decode("utf-8", "replace")
    ctypes.CDLL(None).free(ctypes.c_void_p(found))
    return text


class ObjectFile:
    """One program or library, as far as its symbols and debugging information go.

    Parameters
    ----------
    path : str
    offsets : iterable of int
        The places that will be asked for, from the beginning of its image in memory.
    """

    def __init__(self, path: str, offsets: Iterable[int]) -> None:
        self._name = os.path.basename(path)
        self._base = 0
        self._symbols: list[tuple[int, int, str]] = []
        self._lines: list[tuple[int, str, int, str]] = []
        self._starts: Sequence[int] = ()
        try:
            self._read(path, offsets)
        except Exception:  # a file that is damaged or of a kind nobody knows tells nothing; its addresses stay
            self._lines = []
        self._lines.sort(key=lambda row: row[0])
        self._symbols.sort()
        self._line_starts = [row[0] for row in self._lines]
        self._starts = [row[0] for row in self._symbols]

    def _read(self, path: str, offsets: Iterable[int]) -> None:
        from elftools.elf.elffile import ELFFile
        from elftools.elf.sections import SymbolTableSection

        with Path(path).open("rb") as file:
            elf: Any = ELFFile(file)
            loaded = [segment["p_vaddr"] & ~0xFFF for segment in elf.iter_segments() if segment["p_type"] == "PT_LOAD"]
            self._base = min(loaded, default=0)
            tables = [section for section in elf.iter_sections() if isinstance(section, SymbolTableSection)]
            for table in sorted(tables, key=lambda section: section.name != ".symtab"):
                for symbol in table.iter_symbols():
                    if symbol["st_info"]["type"] in ("STT_FUNC", "STT_GNU_IFUNC") and symbol["st_value"]:
                        self._symbols.append((symbol["st_value"], symbol["st_size"], symbol.name))
                if self._symbols:
                    break
            if elf.has_dwarf_info():
                self._read_lines(elf.get_dwarf_info(), [offset + self._base for offset in offsets])

    def _read_lines(self, dwarf: Any, addresses: Sequence[int]) -> None:
        """The line tables of the units in which the addresses lie; of all where no index says which these are."""
        ranges = dwarf.get_aranges()
        if ranges is not None:
            units = {ranges.cu_offset_at_addr(address) for address in addresses} - {None}
            found = [dwarf.get_CU_at(offset) for offset in sorted(units)]
        else:
            found = list(dwarf.iter_CUs())
        for unit in found:
            program = dwarf.line_program_for_CU(unit)
            if program is None:
                continue
            top = unit.get_top_DIE().attributes
            folder = top["DW_AT_comp_dir"].value.decode("utf-8", "replace") if "DW_AT_comp_dir" in top else ""
            language = _LANGUAGES.get(top["DW_AT_language"].value, COMPILED) if "DW_AT_language" in top else COMPILED
            files = _files_of(program, folder)
            for entry in program.get_entries():
                state = entry.state
                if state is not None and not state.end_sequence:
                    self._lines.append((state.address, files.get(state.file, ""), state.line, language))
                elif state is not None:
                    self._lines.append((state.address, "", 0, language))

    def _line_at(self, address: int) -> tuple[str, int, str]:
        at = bisect_right(self._line_starts, address) - 1
        return self._lines[at][1:] if at >= 0 else ("", 0, COMPILED)

    def function(self, offset: int) -> CodePlace:
        """The function that begins at a place."""
        address = offset + self._base
        at = bisect_right(self._starts, address) - 1
        file, line, language = self._line_at(address)
        if at >= 0 and (address == self._symbols[at][0] or address < self._symbols[at][0] + self._symbols[at][1]):
            return CodePlace(readable(self._symbols[at][2], language), file, line, language)
        return CodePlace(f"{offset:#x} in {self._name}", file, line, language)

    def line_of_call(self, offset: int) -> int:
        """The line of a call that returns to a place; 0 where it is not known."""
        return self._line_at(offset + self._base - 1)[1]


def _files_of(program: Any, folder: str) -> dict[int, str]:
    """Paths of the files that a line table names, by their number in it."""
    header = program.header
    new = header.version >= 5
    folders = [_text(entry) for entry in header.include_directory]
    found = {}
    for number, entry in enumerate(header.file_entry, 0 if new else 1):
        index = int(entry.dir_index)
        place = (folders[index] if index < len(folders) else "") if new else (folders[index - 1] if 0 < index <= len(folders) else "")
        found[number] = os.path.normpath(os.path.join(folder, place, _text(entry.name)))
    return found


def _text(value: Any) -> str:
    if hasattr(value, "DW_LNCT_path"):
        value = value.DW_LNCT_path
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
