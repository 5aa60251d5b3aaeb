"""Cuts a partition out of a drive's file into a file of its own, holes kept: FILE OUT OFFSET LENGTH (bytes)."""
import os
import sys

source, out, offset, length = sys.argv[1], sys.argv[2], int(sys.argv[3]), int(sys.argv[4])
read = os.open(source, os.O_RDONLY)
write = os.open(out, os.O_RDWR | os.O_CREAT | os.O_TRUNC)
os.ftruncate(write, length)
end = offset + length
at = offset
while at < end:
    try:
        data = os.lseek(read, at, os.SEEK_DATA)
    except OSError:
        break
    hole = min(os.lseek(read, data, os.SEEK_HOLE), end)
    while data < hole:
        piece = os.pread(read, min(1 << 20, hole - data), data)
        os.pwrite(write, piece, data - offset)
        data += len(piece)
    at = hole
