"""Elapsed time: each moment of a run counts once, shared among the threads and processes that ran in it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ricerca.engine.profile import Profile, group_sums


def runs_beside_itself(profile: Profile) -> bool:
    """Whether a run has several threads or processes in which something was recorded, so that its times add up beside each other."""
    totals = group_sums(profile.thread, profile.raw_self_ns, len(profile.thread_name))
    return int((totals > 0).sum()) > 1


def with_elapsed(profile: Profile) -> Profile:
    """The run with elapsed time in the place of each thread's own.

    What ran in a slice of time is shared among those that ran: they get the slice's length together, or less where they
    ran less. The rest of the slice goes to what the main thread waited in; where it did not wait, or is gone, to
    what the others waited in. So an idle helper weighs nothing, and the whole is the run's own time.

    Without slices (the recorder in Python keeps none) the main thread's time is taken for the run's.
    """
    if not runs_beside_itself(profile):
        return profile
    if not profile.slice_count:
        main = profile.thread == profile.thread[0]
        return _with_columns(profile, np.where(main, profile.raw_self_ns, 0), np.where(main, profile.waiting_ns, 0))
    ran, waited = _by_slice(profile)
    count, context = len(profile), profile.slice_context
    raw = np.bincount(context, ran + waited, count)
    found = _with_columns(profile, np.rint(raw).astype(np.int64), np.rint(np.bincount(context, waited, count)).astype(np.int64))
    rounded = np.rint(ran + waited).astype(np.int64)
    return replace(found, slice_self_ns=rounded, slice_waiting_ns=np.minimum(np.rint(waited).astype(np.int64), rounded))


def _with_columns(profile: Profile, raw_ns: np.ndarray, waiting_ns: np.ndarray) -> Profile:
    """Other raw and waiting times; what was deducted stays the same share of each."""
    share = np.divide(profile.self_ns, profile.raw_self_ns, where=profile.raw_self_ns > 0, out=np.ones(len(profile)))
    self_ns = np.rint(raw_ns * np.minimum(share, 1.0)).astype(np.int64)
    return replace(profile, raw_self_ns=raw_ns, self_ns=self_ns, waiting_ns=np.minimum(waiting_ns, raw_ns))


def _by_slice(profile: Profile) -> tuple[np.ndarray, np.ndarray]:
    """For each row of a context in a slice: how long it ran, and how long it was waited in, as elapsed ns."""
    count, where = profile.slice_count, profile.slice_number
    called = profile.parent[profile.slice_context] >= 0
    waited = np.where(called, np.minimum(profile.slice_waiting_ns, profile.slice_self_ns), 0).astype(np.float64)
    ran = np.where(called, profile.slice_self_ns - waited, 0).astype(np.float64)
    length = _lengths(profile, count)
    together = np.bincount(where, ran, count)
    ran *= np.divide(np.minimum(together, length), together, where=together > 0, out=np.zeros(count))[where]
    left = length - np.minimum(together, length)
    is_main = profile.thread[profile.slice_context] == profile.thread[0]
    main = np.bincount(where, waited * is_main, count)
    others = np.bincount(where, waited * ~is_main, count)
    of_main = np.divide(np.minimum(left, main), main, where=main > 0, out=np.zeros(count))[where]
    rest = np.where(main > 0, 0.0, left)
    of_others = np.divide(np.minimum(rest, others), others, where=others > 0, out=np.zeros(count))[where]
    return ran, waited * np.where(is_main, of_main, of_others)


def _lengths(profile: Profile, count: int) -> np.ndarray:
    """Length of each slice in ns; of the last one as much as belongs to the run."""
    width = profile.facts.slice_ns
    length = np.full(count, width)
    rest = profile.facts.duration_ns - (count - 1) * width
    if 0 < rest < width:
        length[-1] = rest
    return length
