"""Where and with what a run was made: what may differ between two rounds besides the code."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Machine:
    """``load`` is the mean number of runnable processes when the run began, -1 where not known.

    ``packages`` are name and version of the installed packages that were used, known of recorded runs only.
    """

    host: str = ""
    processor: str = ""
    processors: int = 0
    system: str = ""
    load: float = -1.0
    python: str = ""
    packages: tuple[tuple[str, str], ...] = ()

    def differences(self, other: Machine) -> list[str]:
        """In what two machines differ, in words; what is not known of both is left out.

        >>> Machine(host="a", python="3.11.7").differences(Machine(host="b", python="3.11.7"))
        ['host: a, then b']
        """
        pairs = (
            ("host", self.host, other.host),
            ("processor", self.processor, other.processor),
            ("processors", self.processors, other.processors),
            ("system", self.system, other.system),
            ("Python", self.python, other.python),
        )
        found = [f"{name}: {before}, then {after}" for name, before, after in pairs if before and after and before != after]
        before, after = dict(self.packages), dict(other.packages)
        found += [
            f"{name} {before[name]}, then {after[name]}" for name in sorted(before.keys() & after.keys()) if before[name] != after[name]
        ]
        if self.load >= 0 and other.load >= 0 and abs(self.load - other.load) >= max(0.5 * max(self.processors, 1), 0.5):
            found.append(f"load: {self.load:.1f}, then {other.load:.1f}")
        return found
