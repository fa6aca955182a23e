#!/bin/sh
set -eu
apk update
apk add --no-cache nginx
rc-update add nginx default
rc-service nginx start
adduser -D -H -s /sbin/nologin tides
