"""A small web handler that answers reports as JSON: one workspace, many threads.

Run it on the sample workspace: `python examples/answers_over_http.py quillmere` asks itself and ends;
with `--serve` it stays: http://127.0.0.1:8080/refused-entries?period=2026-03
"""

import json
import sys
import threading
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Mapping
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import fermata

hall = fermata.open(sys.argv[1] if len(sys.argv) > 1 else "quillmere")


class Answers(BaseHTTPRequestHandler):
    """A report for each path; its keys are those of the query."""

    def do_GET(self) -> None:
        """The rows of the report, or what is wrong with the request."""
        asked = urllib.parse.urlsplit(self.path)
        keys = dict(urllib.parse.parse_qsl(asked.query))
        try:
            body: Mapping[str, object] = {"rows": hall.report(asked.path.strip("/"), **keys).to_dicts()}
            status = 200
        except fermata.RequestError as e:
            body, status = {"error": str(e)}, 400
        except fermata.DataError as e:
            body, status = {"error": str(e)}, 503
        data = json.dumps(body, default=str, ensure_ascii=False).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json; charset=utf-8")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, format: str, *args: object) -> None:
        """Says nothing of each request."""


def ask(port: int, path: str) -> dict[str, object]:
    """What the server answers."""
    try:
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/{path}") as answer:
            found: dict[str, object] = json.load(answer)
    except urllib.error.HTTPError as e:
        found = json.load(e)
    return found


if "--serve" in sys.argv:
    ThreadingHTTPServer(("127.0.0.1", 8080), Answers).serve_forever()

server = ThreadingHTTPServer(("127.0.0.1", 0), Answers)
threading.Thread(target=server.serve_forever, daemon=True).start()
port = server.server_address[1]
PATHS = ["refused-entries?period=2026-03", "calls-by-line?period=2026-03", "no-such-report"] * 8
answers: dict[int, dict[str, object]] = {}


def ask_some(first: int) -> None:
    """Every eighth of the questions, from the first on."""
    answers.update({n: ask(port, PATHS[n]) for n in range(first, len(PATHS), 8)})


clients = [threading.Thread(target=ask_some, args=(n,)) for n in range(8)]
for client in clients:
    client.start()
for client in clients:
    client.join()
for n in range(3):
    assert all(answers[m] == answers[n] for m in range(n, 24, 3)), "every client has the same answer"
    print(PATHS[n], "->", json.dumps(answers[n], ensure_ascii=False)[:160])
print("24 requests of eight clients, each answered alike")
for row in answers[0]["rows"][:3]:  # type: ignore[index]  # the first is a list of rows
    print(row)
server.shutdown()
