"""Calls of builtins and builtin methods."""

words = [str(number) for number in range(1000)]
size = 0
for _ in range(700):
    for word in words:
        size += len(word)
        word.isdigit()
        ord(word[0])
print(size)
