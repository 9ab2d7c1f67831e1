import io
import matplotlib.pyplot as plt
import numpy as np

labels = 0


def label(value, _position):
    global labels
    labels += 1
    return f"{value:.1f}"


figure, axes = plt.subplots(2, 1)
axes[0].plot(np.sin(np.linspace(0, 9, 200)))
axes[0].xaxis.set_major_formatter(label)
axes[1].hist(np.arange(100) % 13, bins=13)
place = io.BytesIO()
figure.savefig(place, format="png")
print(place.tell() > 5000, f"\nCOUNT label={labels}")
