#!/bin/sh
set -eu
apt-get install -y locales
sed -i 's/^# *\(en_DK.UTF-8\)/\1/' /etc/locale.gen
locale-gen
update-locale LANG=en_DK.UTF-8
echo 'tzdata tzdata/Areas select Atlantic' | debconf-set-selections
DEBIAN_FRONTEND=noninteractive dpkg-reconfigure tzdata
