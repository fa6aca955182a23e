#!/bin/bash
set -euo pipefail
pacman -Syu --noconfirm --needed base-devel git
pacman-key --init
systemctl enable --now sshd
