#!/bin/sh
set -eu
umask 077
openssl req -x509 -newkey rsa:3072 -nodes -days 365 -subj "/CN=tides.skerry.example" \
    -keyout /etc/ssl/private/tides.key -out /etc/ssl/certs/tides.pem
openssl x509 -in /etc/ssl/certs/tides.pem -noout -enddate
