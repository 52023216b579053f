# A mail server that takes mails from the other containers and hands them on: to the host in SMARTHOST, or to
# where their addresses lead.
FROM debian:bookworm-slim
RUN apt-get update \
 && DEBIAN_FRONTEND=noninteractive apt-get install --yes --no-install-recommends exim4-daemon-light \
 && rm --recursive /var/lib/apt/lists/*
COPY mail.sh /usr/local/bin/mail.sh
EXPOSE 25
CMD ["/usr/local/bin/mail.sh"]
