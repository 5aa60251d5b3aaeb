version https://git-lfs.github.com/spec/v1
oid sha256:52bcf73c8381f0d1d3d9d62f55c437f2fb76356ee10069ad28a86c7bee987b9a
size 5663073
