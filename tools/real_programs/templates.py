from jinja2 import Environment

used = 0


def shout(text):
    global used
    used += 1
    return text.upper()


env = Environment()
env.filters["shout"] = shout
page = env.from_string("{% macro row(x) %}<td>{{ x|shout }}</td>{% endmacro %}{% for x in xs %}{{ row(x) }}{% endfor %}")
print(sum(len(page.render(xs=[f"w{n}" for n in range(60)])) for _ in range(20)), f"\nCOUNT shout={used}")
