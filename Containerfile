# Libramen with its engine compiled, to be run on a folder with a study:
#   podman build -t libramen . && podman run --rm -v "$PWD/mine:/study" libramen compare study.toml
FROM python:3.13-slim
COPY . /source
RUN pip install --no-cache-dir '/source[report]' && rm -r /source
ENV LIBRAMEN_CACHE=/cache
RUN libramen prepare && chmod -R a+rwX /cache
WORKDIR /study
USER 1000
ENTRYPOINT ["libramen"]
