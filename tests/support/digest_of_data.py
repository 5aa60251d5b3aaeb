"""Prints the SHA-256 of everything stored in a file, holes left out, each stretch with its place: FILE."""
import hashlib
import os
import sys

file = os.open(sys.argv[1], os.O_RDONLY)
size = os.fstat(file).st_size
digest = hashlib.sha256(str(size).encode())
at = 0
while at < size:
    try:
        data = os.lseek(file, at, os.SEEK_DATA)
    except OSError:
        break
    hole = os.lseek(file, data, os.SEEK_HOLE)
    digest.update(f"{data}:{hole}".encode())
    while data < hole:
        piece = os.pread(file, min(1 << 20, hole - data), data)
        digest.update(piece)
        data += len(piece)
    at = hole
print(digest.hexdigest())
