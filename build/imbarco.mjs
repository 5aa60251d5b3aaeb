version https://git-lfs.github.com/spec/v1
oid sha256:ffbc13d4849699321dc089b6ee65b7b673263c59d97bec3f6061abd4b2efc995
size 5654401
