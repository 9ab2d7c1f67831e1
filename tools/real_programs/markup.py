from lxml import etree

began = 0


class Counter:
    def start(self, tag, attrib):
        global began
        began += 1

    def end(self, tag):
        pass

    def data(self, text):
        pass

    def close(self):
        return began


text = "<r>" + "".join(f"<a n='{n}'><b>t{n}</b></a>" for n in range(400)) + "</r>"
print(etree.XMLParser(target=Counter()).feed(text) or etree.fromstring(text, etree.XMLParser(target=Counter())))
print(len(etree.fromstring(text).xpath("//a[@n mod 3 = 0]/b")), f"\nCOUNT Counter.start={began}")
