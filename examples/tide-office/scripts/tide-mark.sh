#!/bin/sh
# Notes each start of the machine, so that gaps in the tables can be explained.
set -eu
mkdir -p /var/lib/tide
date -u '+%Y-%m-%dT%H:%M:%SZ started' >>/var/lib/tide/starts
