"""Chains of calls of which nearly every link is new each time: functions call each other in the order of the digits of a number."""

BASE, LINKS = 32, 8
turn = 0


def made(n):
    space = {}
    exec(f"def link{n}(digits, number):\n    if digits: links[number % {BASE}](digits - 1, number // {BASE})\n", globals(), space)
    return space[f"link{n}"]


links = []
links += [made(n) for n in range(BASE)]


def work():
    global turn
    for number in range(turn, turn + 300):
        links[number % BASE](LINKS, number * 2654435761 % (1 << 40))
    turn += 300
