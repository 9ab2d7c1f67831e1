from docutils import nodes
from docutils.core import publish_string
from docutils.parsers.rst import Directive, directives

ran = 0


class Twice(Directive):
    has_content = True

    def run(self):
        global ran
        ran += 1
        return [nodes.paragraph("", "".join(self.content) * 2)]


directives.register_directive("twice", Twice)
text = "".join(
    f"Title {n}\n{'=' * 10}\n\n*Some* text with ``code`` and a `link <http://a.b>`_ here.\n\n.. twice::\n\n   word\n\n" for n in range(30)
)
print(len(publish_string(text, writer_name="html5", settings_overrides={"report_level": 5})) > 5000, f"\nCOUNT Twice.run={ran}")
