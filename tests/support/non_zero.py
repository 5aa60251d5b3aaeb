"""Counts the bytes of a sparse file that are not zero, looking only where something is stored."""
import os
import sys

PIECE = 1 << 20

with open(sys.argv[1], "rb") as file:
    end = os.fstat(file.fileno()).st_size
    at = count = 0
    while at < end:
        try:
            at = os.lseek(file.fileno(), at, os.SEEK_DATA)
        except OSError:
            break
        stop = os.lseek(file.fileno(), at, os.SEEK_HOLE)
        while at < stop:
            piece = os.pread(file.fileno(), min(PIECE, stop - at), at)
            count += len(piece) - piece.count(0)
            at += len(piece)
    print(count)
