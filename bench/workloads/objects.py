"""Objects whose methods call each other."""


class Cell:
    def __init__(self, value):
        self._value = value

    @property
    def value(self):
        return self._value

    def grow(self, by):
        self._value = self.limit(self.value + by)
        return self

    def limit(self, value):
        return value % 1009


cells = [Cell(number) for number in range(500)]


def work():
    for step in range(6):
        for cell in cells:
            cell.grow(step)
