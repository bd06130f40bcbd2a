"""Reads a disk out of a vault, by docs/vault-format.md alone: KEY-FILE VAULT-FOLDER MANIFEST OUT.

Shares no code with the service. Indexes are not read at all: segments describe themselves.
"""

import os
import struct
import sys

import zstandard
from nacl.bindings import crypto_aead_xchacha20poly1305_ietf_decrypt as decrypt

IV = [0x6A09E667, 0xBB67AE85, 0x3C6EF372, 0xA54FF53A, 0x510E527F, 0x9B05688C, 0x1F83D9AB, 0x5BE0CD19]
PERMUTATION = [2, 6, 3, 10, 7, 0, 4, 13, 1, 11, 12, 5, 9, 14, 15, 8]
CHUNK = 128 * 1024
PAGE = 1024


def compress(chain, block, length, flags, counter=0):
    """One block of BLAKE3; the counter is that of its leaf."""

    def turn(value, by):
        return (value >> by | value << 32 - by) & 0xFFFFFFFF

    def mix(a, b, c, d, x, y):
        v[a] = (v[a] + v[b] + x) & 0xFFFFFFFF
        v[d] = turn(v[d] ^ v[a], 16)
        v[c] = (v[c] + v[d]) & 0xFFFFFFFF
        v[b] = turn(v[b] ^ v[c], 12)
        v[a] = (v[a] + v[b] + y) & 0xFFFFFFFF
        v[d] = turn(v[d] ^ v[a], 8)
        v[c] = (v[c] + v[d]) & 0xFFFFFFFF
        v[b] = turn(v[b] ^ v[c], 7)

    words = list(struct.unpack("<16I", block.ljust(64, b"\0")))
    v = list(chain) + IV[:4] + [counter & 0xFFFFFFFF, counter >> 32, length, flags]
    for step in range(7):
        mix(0, 4, 8, 12, words[0], words[1])
        mix(1, 5, 9, 13, words[2], words[3])
        mix(2, 6, 10, 14, words[4], words[5])
        mix(3, 7, 11, 15, words[6], words[7])
        mix(0, 5, 10, 15, words[8], words[9])
        mix(1, 6, 11, 12, words[10], words[11])
        mix(2, 7, 8, 13, words[12], words[13])
        mix(3, 4, 9, 14, words[14], words[15])
        if step < 6:
            words = [words[place] for place in PERMUTATION]
    return [v[at] ^ v[at + 8] for at in range(8)]


def derive(context, key):
    """BLAKE3's derive_key, for contexts and keys of at most 64 bytes."""
    start, end, root, of_context, of_material = 1, 2, 8, 32, 64
    context = context.encode()
    chain = compress(IV, context, len(context), start | end | root | of_context)
    return struct.pack("<8I", *compress(chain, key, len(key), start | end | root | of_material))


def sealed(keys, bound, body):
    assert body[0] == 2, "another sealed form"
    number = struct.unpack("<I", body[1:5])[0]
    return decrypt(bytes(body[29:]), bound, bytes(body[5:29]), keys[number])


def unpack(packed):
    length = struct.unpack("<I", packed[1:5])[0]
    if packed[0] == 0:
        plain = packed[5:]
    else:
        plain = zstandard.ZstdDecompressor().decompress(packed[5:], max_output_size=length)
    assert len(plain) == length
    return plain


def ring(key_file, vault):
    text = open(key_file).read().split()
    assert text[0] == "duplicarium-key-1"
    root = bytes.fromhex(text[1])
    short = derive("duplicarium 2026 short names of keys", root)[:8].hex()
    raw = open(os.path.join(vault, "keys", short), "rb").read()
    assert raw[0] in (2, 3)
    wrapping = derive("duplicarium 2026 wrapping of the ring", root)
    plain = decrypt(raw[25:], short.encode(), raw[1:25], wrapping)
    keys, rest = {}, plain[36:]
    for _ in range(struct.unpack("<I", plain[32:36])[0]):
        number = struct.unpack("<I", rest[:4])[0]
        keys[number] = derive("duplicarium 2026 sealing of vault objects", rest[4:36])
        rest = rest[36:]
    return keys


class Vault:
    def __init__(self, key_file, folder):
        self.keys = ring(key_file, folder)
        self.pieces = {}
        for name in sorted(os.listdir(os.path.join(folder, "segment"))):
            raw = open(os.path.join(folder, "segment", name), "rb").read()
            assert raw[:10] == b"dupvault\2\0"
            at = 16
            while at < len(raw):
                assert raw[at : at + 4] == b"\xd5pc2"
                kind, length = raw[at + 4], struct.unpack("<I", raw[at + 8 : at + 12])[0]
                self.pieces[kind, raw[at + 12 : at + 44]] = raw[at + 44 : at + 44 + length]
                at += 44 + length

    def piece(self, kind, name):
        return unpack(sealed(self.keys, bytes([kind]) + name, self.pieces[kind, name]))


def entries(raw, count=None):
    found = []
    while raw:
        if raw[0] == 2:
            found.append(raw[1:33])
            raw = raw[33:]
        else:
            found.append(raw[0])
            raw = raw[1:]
    assert count is None or len(found) == count
    return found


def differing(base, raw, count):
    found = (base + [0] * count)[:count]
    while raw:
        at = struct.unpack("<I", raw[:4])[0]
        width = 33 if raw[4] == 2 else 1
        found[at] = entries(raw[4 : 4 + width], 1)[0]
        raw = raw[4 + width :]
    return found


def page(vault, name):
    raw = vault.piece(2, name)
    assert raw[0] == 2
    count = struct.unpack("<I", raw[2:6])[0]
    if raw[1] == 0:
        return entries(raw[6:], count)
    return differing(page(vault, raw[6:38]), raw[38:], count)


def pages(vault, name, depth=0):
    raw = vault.piece(3, name)
    assert raw[0] == 2 and depth < 2
    length = struct.unpack("<Q", raw[1:9])[0]
    count = -(-length // (CHUNK * PAGE))
    if raw[9] == 0:
        return length, entries(raw[10:], count)
    return length, differing(pages(vault, raw[10:42], depth + 1)[1], raw[42:], count)


def main(key_file, folder, manifest, out):
    vault = Vault(key_file, folder)
    length, of_disk = pages(vault, bytes.fromhex(manifest))
    with open(out, "wb") as disk:
        for number, what in enumerate(of_disk):
            if not isinstance(what, bytes):
                continue
            for place, chunk in enumerate(page(vault, what)):
                if isinstance(chunk, bytes):
                    disk.seek((number * PAGE + place) * CHUNK)
                    disk.write(vault.piece(1, chunk))
        disk.truncate(length)


if __name__ == "__main__":
    main(*sys.argv[1:])
