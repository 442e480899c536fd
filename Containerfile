# Builds chestnut, and runs `chestnut watch` over the configuration in /data.
FROM rust:1-slim-bookworm AS build
WORKDIR /src
COPY . .
RUN cargo build --release --locked -p chestnut

FROM debian:bookworm-slim
RUN apt-get update && apt-get install -y --no-install-recommends ca-certificates && rm -rf /var/lib/apt/lists/*
COPY --from=build /src/target/release/chestnut /usr/local/bin/chestnut
RUN useradd --uid 1000 --home-dir /data chestnut && mkdir /data && chown chestnut /data
USER chestnut
WORKDIR /data
VOLUME /data
STOPSIGNAL SIGTERM
ENTRYPOINT ["chestnut", "--config", "/data/chestnut.toml"]
CMD ["watch"]
