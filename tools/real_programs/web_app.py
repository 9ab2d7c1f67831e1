from flask import Flask, jsonify, render_template_string

app, served = Flask(__name__), 0


@app.route("/<int:n>")
def page(n):
    global served
    served += 1
    return render_template_string("{% for i in range(n) %}<b>{{ i }}</b>{% endfor %}", n=n)


@app.route("/json")
def facts():
    return jsonify(ok=True)


client = app.test_client()
size = sum(len(client.get(f"/{n % 20}").data) for n in range(100))
print(size, client.get("/json").json, client.get("/none").status_code, f"\nCOUNT page={served}")
