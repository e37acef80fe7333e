"""Loads a module of a function and calls its handler, once for each request that comes on
descriptor 3. Answers go to descriptor 4; what the function prints is its log."""

import asyncio
import importlib.util
import inspect
import json
import os
import sys
import traceback
from urllib.parse import parse_qs, urlsplit

file, name = sys.argv[1], sys.argv[2]
requests, answers = os.fdopen(3, "rb"), os.fdopen(4, "wb")
os.set_inheritable(3, False)
os.set_inheritable(4, False)


def say(head, body=b""):
    answers.write(json.dumps({**head, "body": len(body)}).encode() + b"\n" + body)
    answers.flush()


def told(e):
    frames = traceback.extract_tb(e.__traceback__)
    own = [f for f in frames if f.filename != __file__ and not f.filename.startswith("<frozen")]
    lines = ["Traceback (most recent call last):\n"] + traceback.format_list(own) + traceback.format_exception_only(type(e), e)
    return {"message": "".join(traceback.format_exception_only(type(e), e)).strip().splitlines()[-1], "stack": "".join(lines)}


class Answer:
    def __init__(self, status, value, headers):
        self.status, self.value, self.headers = status, value, headers


class Request:
    """What the function was asked: its method, its path below the function's name, its query
    and headers, and its body."""

    def __init__(self, head, body):
        self.method, self.path, self.body, self.name, self.call = head["method"], head["path"], body, name, head["id"]
        self.url = head["url"]
        self.query = {k: v[-1] for k, v in parse_qs(urlsplit(head["url"]).query, keep_blank_values=True).items()}
        self.headers = {}
        for k, v in head["headers"]:
            k = k.lower()
            self.headers[k] = self.headers[k] + ", " + v if k in self.headers else v

    def text(self):
        return self.body.decode()

    def json(self):
        return json.loads(self.body)

    def answer(self, status, value=None, headers=None):
        """Returns an answer with a status, for the handler to return."""
        return Answer(status, value, headers or {})


def as_answer(value):
    status, headers = 200, {}
    if isinstance(value, Answer):
        status, headers, value = value.status, value.headers, value.value
    elif value is None:
        status = 204
    if value is None:
        body, kind = b"", None
    elif isinstance(value, (bytes, bytearray)):
        body, kind = bytes(value), "application/octet-stream"
    elif isinstance(value, str):
        body, kind = value.encode(), "text/plain; charset=utf-8"
    else:
        body, kind = json.dumps(value).encode(), "application/json"
    pairs = [[k, v] for k, v in headers.items()]
    if kind and not any(k.lower() == "content-type" for k, _ in pairs):
        pairs.append(["content-type", kind])
    return {"status": status, "headers": pairs}, body


try:
    sys.path.insert(0, os.path.dirname(file))
    spec = importlib.util.spec_from_file_location(name.replace("-", "_"), file)
    module = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
    handler = getattr(module, "handler", None)
    if not callable(handler):
        raise AttributeError(os.path.basename(file) + " has no handler; write: def handler(request):")
except BaseException as e:
    say({"failed": told(e)})
    sys.exit(1)
say({"ready": True})

while True:
    line = requests.readline()
    if not line:
        break
    head = json.loads(line)
    body = requests.read(head["body"])
    try:
        value = handler(Request(head, body))
        if inspect.isawaitable(value):
            value = asyncio.run(value)
        answer, out = as_answer(value)
    except BaseException as e:
        answer, out = {"error": told(e)}, b""
    for stream in (sys.stdout, sys.stderr):
        stream.flush()
    os.write(1, b"\0")
    os.write(2, b"\0")
    say({"id": head["id"], **answer}, out)
