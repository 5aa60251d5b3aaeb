version https://git-lfs.github.com/spec/v1
oid sha256:69bf2d2511c7350542cb15e8350163006d0abdd8591f1573b7d976c77aad9322
size 5658944
