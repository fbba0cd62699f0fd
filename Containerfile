# The image of the program, which needs nothing else:
#
#   CGO_ENABLED=0 go build -trimpath -ldflags="-s -w" -o widecrate ./cmd/widecrate
#   buildah build -t widecrate .
FROM scratch
COPY widecrate /usr/local/bin/widecrate
ENV PATH=/usr/local/bin
USER 65534:65534
WORKDIR /data
ENTRYPOINT ["/usr/local/bin/widecrate"]
