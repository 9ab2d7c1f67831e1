from PyQt6.QtCore import QThread, QTimer
from PyQt6.QtWidgets import QApplication, QLabel

ticks = 0


def tick():
    global ticks
    ticks += 1
    label.setText(str(ticks))
    if ticks == 50:
        app.quit()


class Worker(QThread):
    def run(self):
        self.total = sum(self.one(n) for n in range(2000))

    def one(self, n):
        return n % 3


app = QApplication([])
label = QLabel()
label.show()
worker = Worker()
worker.start()
timer = QTimer(timeout=tick)
timer.start(1)
app.exec()
worker.wait()
print(worker.total, label.text(), f"\nCOUNT tick={ticks}\nCOUNT Worker.one=2000")
