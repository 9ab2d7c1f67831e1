"""Calls of builtins and builtin methods."""

words = [str(number) for number in range(1000)]


def work():
    size = 0
    for _ in range(3):
        for word in words:
            size += len(word)
            word.isdigit()
            ord(word[0])
    return size
