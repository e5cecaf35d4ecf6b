# An image with Libramen and its engine compiled. Mount a folder with a study at /study, and give it a command:
#   compare study.toml
FROM python:3.13-slim
COPY . /source
RUN pip install --no-cache-dir '/source[report]' && rm -r /source
ENV LIBRAMEN_CACHE=/cache
RUN libramen prepare && chmod -R a+rwX /cache
WORKDIR /study
USER 1000
ENTRYPOINT ["libramen"]
