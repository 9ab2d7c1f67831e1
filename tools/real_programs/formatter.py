import black

source = "".join(f"def f{n}( a,b ):\n  x = {{ 'a':a,'b' :b }}\n  return [ i for i in range( {n} ) if i%2==0 ]\n" for n in range(30))
first = black.format_str(source, mode=black.Mode())
print(len(first.splitlines()), black.format_str(first, mode=black.Mode()) == first)
