#!/usr/bin/env python3
"""A helper program for a store of Revlet's, that keeps objects in a folder.

It is an example for places that speak no open protocol: replace what touches the
folder by what the place wants. The protocol is described in docs/STORES.md.

    stores:
      attic: {program: [/usr/local/bin/store-helper.py, /mnt/attic]}   # elsewhere: true, if it is
"""
import os
import shutil
import sys
import urllib.parse

TOP = os.path.realpath(sys.argv[1])
IN, OUT = sys.stdin.buffer, sys.stdout.buffer


def say(*words):
    OUT.write((" ".join(str(w) for w in words) + "\n").encode())
    OUT.flush()


def place(name):
    """The file of an object; a name never leads out of the folder."""
    parts = urllib.parse.unquote(name).split("/")
    if any(p in ("", ".", "..") or "\0" in p for p in parts):
        raise ValueError("no name of an object: " + name)
    return os.path.join(TOP, *parts)


def describe(path):
    info = os.stat(path)
    return info.st_size, int(info.st_mtime)


def put(name, size, replace):
    """Whole or not at all: it is written beside, and then renamed."""
    path, left = place(name), int(size)
    there = os.path.exists(path) and not replace
    beside = os.path.join(TOP, ".put-%d" % os.getpid())
    with open(beside, "wb") as f:
        while left:
            piece = IN.read(min(left, 1 << 20))
            if not piece:
                raise EOFError("the object broke off")
            left -= len(piece)
            f.write(piece)
        f.flush()
        os.fsync(f.fileno())
    if there:
        os.remove(beside)
        return say("there")
    os.makedirs(os.path.dirname(path), exist_ok=True)
    os.replace(beside, path)
    say("ok")


def get(name, offset):
    with open(place(name), "rb") as f:
        size = max(os.fstat(f.fileno()).st_size - int(offset), 0)
        f.seek(int(offset))
        say("ok", size)
        shutil.copyfileobj(f, OUT, 1 << 20)
        OUT.flush()


def listing(folder):
    top = TOP if folder in (".", "") else place(folder)
    for at, folders, files in os.walk(top):
        folders[:] = [d for d in folders if not d.startswith(".")]
        for name in files:
            path = os.path.join(at, name)
            if not name.startswith("."):
                say("object", *describe(path), urllib.parse.quote(os.path.relpath(path, TOP)))
    say("ok")


def answer(line):
    command, *words = line.decode().split()
    if command == "about":
        say("ok", "free=%d" % shutil.disk_usage(TOP).free)
    elif command in ("put", "add"):
        put(words[0], words[1], command == "put")
    elif command == "get":
        get(*words)
    elif command == "stat":
        say("ok", *describe(place(words[0])))
    elif command == "list":
        listing(words[0] if words else "")
    elif command == "remove":
        os.remove(place(words[0]))
        say("ok")
    else:
        say("refused", "unknown command", command)


say("revlet-store 1")
for line in IN:
    try:
        answer(line)
    except FileNotFoundError:
        say("missing")
    except PermissionError as e:
        say("refused", e.strerror)
    except OSError as e:
        say("full" if e.errno == 28 else "failed", e.strerror)
    except ValueError as e:
        say("refused", e)
