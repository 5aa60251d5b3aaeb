version https://git-lfs.github.com/spec/v1
oid sha256:4dd0ede1b282a7e856f80b31ded84f0ea211c73632bac879e542a9caa98b5227
size 5664779
