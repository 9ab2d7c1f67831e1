import sympy as sp

x, y = sp.symbols("x y")
expanded = sp.expand((x + y + 1) ** 8)
print(len(expanded.args), sp.factor(x**6 - 1), sp.integrate(sp.sin(x) * x, x))
