version https://git-lfs.github.com/spec/v1
oid sha256:63da9a314487a4c41200059c1df48008d7b9db6a1644ec1ab55e631bbcc26904
size 5658472
