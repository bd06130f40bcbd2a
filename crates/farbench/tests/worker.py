"""A bench worker of another hand, by docs/bench-protocol.md alone: HOST:PORT CREDENTIAL CARD-FILE [ERROR].

Shares no code with the service. Its one slot holds a card that is a file. ERROR is what it does wrong:
  lazy          says that the card is written, and writes nothing
  wild-offer    offers chunks that no card has
  wild-chunks   asks for chunks that the content has not
  many-chunks   asks for more chunks at once than an answer may hold
  deaf          begins work, and says nothing of it, nor stops when it is told to
  huge          says that its card holds more bytes than any
  wild-numbers  tells progress that cannot be, and a report of a card that is larger than its own
"""

import json
import os
import select
import socket
import struct
import sys
import time

sys.dont_write_bytecode = True
sys.path.insert(0, os.path.join(os.path.dirname(__file__), "../../vault/tests"))
import read_vault

CHUNK = 128 * 1024
AT_ONCE = 16


def blake3(data):
    """BLAKE3 of bytes of any length: 1,024 bytes are a leaf, leaves are joined as a binary tree."""
    start, end, parent, root = 1, 2, 4, 8

    def leaf(piece, counter, last):
        chain = read_vault.IV
        blocks = [piece[at : at + 64] for at in range(0, max(len(piece), 1), 64)]
        for place, block in enumerate(blocks):
            flags = start if place == 0 else 0
            if place + 1 == len(blocks):
                flags |= end | last
            chain = read_vault.compress(chain, block, len(block), flags, counter)
        return chain

    def tree(first, pieces, last):
        if len(pieces) == 1:
            return leaf(pieces[0], first, last)
        left = 1 << (len(pieces) - 1).bit_length() - 1
        both = tree(first, pieces[:left], 0) + tree(first + left, pieces[left:], 0)
        return read_vault.compress(read_vault.IV, struct.pack("<16I", *both), 64, parent | last)

    pieces = [data[at : at + 1024] for at in range(0, max(len(data), 1), 1024)]
    return struct.pack("<8I", *tree(0, pieces, root))


def pack(chunk):
    return b"\0" + struct.pack("<I", len(chunk)) + chunk


def split(body):
    pieces = []
    while body:
        length = struct.unpack("<I", body[:4])[0]
        pieces.append(body[4 : 4 + length])
        body = body[4 + length :]
    return pieces


def join(pieces):
    return b"".join(struct.pack("<I", len(piece)) + piece for piece in pieces)


class Cancelled(Exception):
    pass


class Line:
    """The connection, and the session over it: messages in order, each once, however often it is cut."""

    def __init__(self, at, credential):
        self.at, self.credential = at, credential
        self.start, self.attempt = os.urandom(8).hex(), 0
        self.session, self.seen, self.next, self.unseen = "", 0, 1, []
        self.socket, self.buffer, self.said = None, b"", 0
        self.fresh = False

    def call(self):
        self.attempt += 1
        host, port = self.at.split(":")
        self.socket = socket.create_connection((host, int(port)), timeout=10)
        request = [
            "GET /api/v1/bench-line HTTP/1.1",
            f"Host: {self.at}",
            f"Authorization: Bearer {self.credential}",
            "Connection: upgrade",
            "Upgrade: duplicarium-bench",
            "Line-Protocol: 2",
            "Line-Version: another hand",
            f"Line-Session: {self.session}",
            f"Line-Seen: {self.seen}",
            f"Line-Start: {self.start}",
            f"Line-Attempt: {self.attempt}",
            "",
            "",
        ]
        self.socket.sendall("\r\n".join(request).encode())
        head = b""
        while b"\r\n\r\n" not in head:
            more = self.socket.recv(4096)
            if not more:
                raise ConnectionError("the service hung up")
            head += more
        head, self.buffer = head.split(b"\r\n\r\n", 1)
        lines = head.decode().split("\r\n")
        if " 101 " not in lines[0] + " ":
            raise PermissionError(lines[0])
        said = {name.lower(): value.strip() for name, value in (line.split(":", 1) for line in lines[1:])}
        if said["line-session"] != self.session:
            self.session, self.seen, self.next, self.unseen = said["line-session"], 0, 1, []
            self.fresh = True
        self.unseen = [one for one in self.unseen if one[0] > int(said["line-seen"])]
        for number, message in self.unseen:
            self.frame(number, message)

    def frame(self, number, message):
        self.said = time.monotonic()
        self.socket.settimeout(30)
        self.socket.sendall(struct.pack("<IQQ", len(message), number, self.seen) + message)

    def send(self, header, body=b""):
        text = json.dumps(header).encode()
        message = struct.pack("<I", len(text)) + text + body
        self.unseen.append((self.next, message))
        self.next += 1
        self.frame(self.next - 1, message)

    def receive(self, patience):
        """The next message as header and body; None where none came in time."""
        until = time.monotonic() + patience
        while True:
            if len(self.buffer) >= 20:
                length, number, seen = struct.unpack("<IQQ", self.buffer[:20])
                if len(self.buffer) >= 20 + length:
                    message, self.buffer = self.buffer[20 : 20 + length], self.buffer[20 + length :]
                    self.unseen = [one for one in self.unseen if one[0] > seen]
                    if number == 0 or number <= self.seen:
                        continue
                    assert number == self.seen + 1, "a message is missing"
                    self.seen = number
                    header = struct.unpack("<I", message[:4])[0]
                    return json.loads(message[4 : 4 + header]), message[4 + header :]
            if time.monotonic() - self.said > 3:
                self.frame(0, b"")
            wait = min(1, until - time.monotonic())
            if wait < 0:
                return None
            if select.select([self.socket], [], [], wait)[0]:
                more = self.socket.recv(1 << 20)
                if not more:
                    raise ConnectionError("the service hung up")
                self.buffer += more


class Worker:
    def __init__(self, line, path, error):
        self.line, self.path, self.error = line, path, error
        self.size = os.path.getsize(path)
        self.card = open(path, "r+b", buffering=0)
        self.boot = os.urandom(4).hex()
        self.begin()

    def begin(self):
        self.answers, self.cancelled, self.later, self.asked = {}, set(), [], 0

    def medium(self):
        return {
            "insertion": {"boot": self.boot, "number": 1},
            "size": 1 << 63 if self.error == "huge" else self.size,
            "kind": "SD card",
            "locked": False,
            "in_use": None,
            "node": None,
            "identity": None,
            "block": 512,
        }

    def slots(self):
        place = {"reader": "file", "unit": 1}
        slot = {"number": 1, "place": place, "title": "a file", "medium": self.medium(), "trouble": None}
        self.line.send({"slots": [slot]})

    def take(self, patience):
        """Takes one message; orders wait until the work before them is over."""
        message = self.line.receive(patience)
        if message is None:
            return
        header, body = message
        kind, said = next(iter(header.items()))
        if kind == "answer":
            self.answers[said["id"]] = (said["answer"], body)
        elif kind == "cancel":
            self.cancelled.add(said["work"])
        elif kind == "ask":
            ask = said["ask"]
            name = ask if isinstance(ask, str) else next(iter(ask))
            given = None if isinstance(ask, str) else ask[name]
            reply, out = self.answer(name, given, body)
            self.line.send({"answer": {"id": said["id"], "answer": reply}}, out)
            if name == "begin":
                self.later.append((given["work"], given["order"], body))

    def answer(self, name, ask, body):
        done = {"Ok": "done"}
        if name == "slots":
            self.slots()
        elif name == "medium":
            return {"Ok": {"medium": self.medium()}}, b""
        elif name == "open":
            return {"Ok": {"opened": {"card": 1, "size": self.size}}}, b""
        elif name == "release":
            return {"Ok": {"released": []}}, b""
        elif name == "read":
            self.card.seek(ask["offset"])
            return done, self.card.read(ask["len"])
        elif name == "write":
            self.card.seek(ask["offset"])
            self.card.write(body)
        elif name == "flush":
            os.fsync(self.card.fileno())
        elif name == "discard":
            return {"Ok": {"discarded": False}}, b""
        elif name not in ("greet", "begin"):
            return {"Err": {"reader": "this bench does not do that"}}, b""
        return done, b""

    def ask(self, work, wish, body=b""):
        self.asked += 1
        number = self.asked
        self.line.send({"ask": {"id": number, "work": work, "wish": wish}}, body)
        while number not in self.answers:
            self.take(5)
        answer, body = self.answers.pop(number)
        if work in self.cancelled:
            raise Cancelled
        if "Err" in answer:
            raise ValueError(answer["Err"])
        return answer["Ok"], body

    def tell(self, work, stage, total, done):
        self.line.send({"progress": {"work": work, "stage": stage, "total": total, "done": done}})

    def work(self, work, order, body):
        name = next(iter(order))
        order = order[name]
        if self.error == "deaf":
            return None
        if self.error == "wild-numbers":
            for total, done in [(5, 1 << 63), ((1 << 64) - 1, (1 << 64) - 1), (0, 0), (1, (1 << 64) - 1)]:
                self.tell(work, "checking", total, done)
            report = {
                "verdict": {"is": "proven"},
                "written": (1 << 64) - 1,
                "right": 5,
                "wrong": (1 << 64) - 1,
                "regions": [],
                "more": False,
            }
            return {"checked": report}
        try:
            if name == "write":
                return self.write(work, order, body)
            if name == "read":
                self.read(work, order)
                return "read"
        except Cancelled:
            return self.stopped(name, "cancelled")
        except ValueError as why:
            return self.stopped(name, {"content": str(why)})
        return {"failed": {"content": "this bench does not do that"}}

    def stopped(self, name, failure):
        if name == "write":
            return {"unwritten": {"failure": failure, "left": "unfinished"}}
        return {"failed": failure}

    def put(self, at, piece):
        self.card.seek(at)
        self.card.write(piece)

    def write(self, work, order, names):
        length, at, chunks = order["len"], 0, []
        for run, kind in order["map"]:
            if kind == "data":
                chunks += range(at // CHUNK, (at + run + CHUNK - 1) // CHUNK)
            at += run
        chunks = [chunk for chunk in dict.fromkeys(chunks) if chunk * CHUNK < length]
        assert len(names) == 32 * len(chunks)
        if self.error == "lazy":
            proven = {"written": length, "verified": length, "size_proven": True}
            return {"written": proven}
        if self.error == "wild-chunks":
            self.ask(work, {"chunks": {"places": [0, 4294967295]}})
        if self.error == "many-chunks":
            self.ask(work, {"chunks": {"places": [0] * 1000000}})
        mark = order["mark"]
        text = b"DUPLICARIUM: THIS CARD IS UNFINISHED\n" + json.dumps(mark).encode() + b"\n"
        self.put(0, text[:510].ljust(512, b"\0"))
        at, first, digests = 0, b"", []
        for run, kind in order["map"]:
            if kind == "zero":
                self.card.seek(at)
                self.card.write(bytes(run))
            at += run
        for start in range(0, len(chunks), AT_ONCE):
            places = list(range(start, min(start + AT_ONCE, len(chunks))))
            _, body = self.ask(work, {"chunks": {"places": places}})
            for place, packed in zip(places, split(body), strict=True):
                chunk = read_vault.unpack(packed)
                at = chunks[place] * CHUNK
                if at == 0:
                    first, chunk = chunk[:512], chunk[512:]
                    at = 512
                self.put(at, chunk)
                digests.append((at, chunk))
            self.tell(work, "writing", length, min(at, length))
        os.fsync(self.card.fileno())
        for at, chunk in digests:
            self.card.seek(at)
            assert self.card.read(len(chunk)) == chunk, "the card reads as something else"
        self.put(0, first)
        os.fsync(self.card.fileno())
        count = sum(len(chunk) for _, chunk in digests) + 512
        return {"written": {"written": count, "verified": count, "size_proven": False}}

    def read(self, work, order):
        if self.error == "wild-offer":
            self.ask(work, {"offer": {"first": (1 << 64) - 1}}, bytes(64))
        at, chunks = 0, {}
        for run, kind in order["map"]:
            for chunk in range(at // CHUNK, (at + run + CHUNK - 1) // CHUNK):
                chunks.setdefault(chunk, []).append((at, at + run, kind))
            at += run
        end = min(at, self.size)
        wanted = [chunk for chunk in chunks if any(kind != "free" for _, _, kind in chunks[chunk]) and chunk * CHUNK < end]
        for chunk in wanted:
            start = chunk * CHUNK
            self.card.seek(start)
            bytes_ = bytearray(self.card.read(min(CHUNK, end - start)))
            for first, last, kind in chunks[chunk]:
                if kind == "free":
                    first, last = max(first - start, 0), min(last - start, len(bytes_))
                    bytes_[first:last] = bytes(max(last - first, 0))
            given, _ = self.ask(work, {"offer": {"first": chunk}}, blake3(bytes(bytes_)))
            if not order["again"] and given["wanted"]:
                self.ask(work, {"give": {"first": chunk}}, join([pack(bytes(bytes_))]))

    def run(self):
        while True:
            try:
                self.line.fresh = False
                self.line.call()
                if self.line.fresh:
                    self.begin()
                    self.slots()
                while True:
                    self.take(1)
                    if self.later:
                        work, order, body = self.later.pop(0)
                        end = self.work(work, order, body)
                        if end is not None:
                            self.line.send({"ended": {"work": work, "end": end}})
            except (ConnectionError, OSError, TimeoutError):
                time.sleep(0.5)


if __name__ == "__main__":
    assert blake3(b"").hex().startswith("af1349b9f5f9a1a6a0404dea36dcc949")
    at, credential, path = sys.argv[1:4]
    error = sys.argv[4] if len(sys.argv) > 4 else ""
    Worker(Line(at, credential), path, error).run()
