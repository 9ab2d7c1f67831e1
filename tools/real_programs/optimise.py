import numpy as np
from scipy import integrate, optimize

made = 0


def rosen(x):
    global made
    made += 1
    return float(np.sum(100 * (x[1:] - x[:-1] ** 2) ** 2 + (1 - x[:-1]) ** 2))


found = optimize.minimize(rosen, np.zeros(8), method="Nelder-Mead", options={"maxiter": 2000})
steps = 0


def slope(t, y):
    global steps
    steps += 1
    return [y[1], -y[0]]


integrate.solve_ivp(slope, (0, 20), [0, 1], rtol=1e-8)
print(round(found.fun, 6), f"\nCOUNT rosen={made}\nCOUNT slope={steps}")
