#!/bin/bash
# Installs the Debian packages named that are missing: at once as root, else it
# says the command to run. Elsewhere than on Debian it only says what is missing.
set -euo pipefail
missing=()
for package in "$@"; do
  dpkg-query -W -f '${db:Status-Status}' "$package" 2>/dev/null | grep -qx installed && continue
  case $package in
    nginx-light) program=/usr/sbin/nginx ;;
    libnginx-mod-http-dav-ext) program=/usr/lib/nginx/modules/ngx_http_dav_ext_module.so ;;
    lighttpd) program=/usr/sbin/lighttpd ;;
    lighttpd-mod-webdav) program=/usr/lib/lighttpd/mod_webdav.so ;;
    apache2) program=/usr/sbin/apache2 ;;
    openssh-server) program=/usr/sbin/sshd ;;
    openssh-client) program=sftp ;;
    iproute2) program=ip ;;
    xvfb) program=Xvfb ;;
    imagemagick) program=montage ;;
    davfs2) program=/usr/sbin/mount.davfs ;;
    e2fsprogs) program=mkfs.ext4 ;;
    xfsprogs) program=mkfs.xfs ;;
    btrfs-progs) program=mkfs.btrfs ;;
    exfatprogs) program=mkfs.exfat ;;
    exfat-fuse) program=mount.exfat-fuse ;;
    *) program=$package ;;
  esac
  [ -e "$program" ] || command -v "$program" >/dev/null || missing+=("$package")
done
[ ${#missing[@]} -eq 0 ] && exit 0
if ! command -v apt-get >/dev/null; then
  echo "missing: ${missing[*]}; install them with this system's package manager, then run make again" >&2
  exit 1
fi
if [ "$(id -u)" -ne 0 ]; then
  echo "missing: ${missing[*]}; run: sudo apt-get install --no-install-recommends ${missing[*]}, then make again" >&2
  exit 1
fi
export DEBIAN_FRONTEND=noninteractive
apt-get -o DPkg::Lock::Timeout=300 update -qq
# A web server is only needed as a program: its own service is not started.
printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d.yardtide && chmod +x /usr/sbin/policy-rc.d.yardtide
[ -e /usr/sbin/policy-rc.d ] || { mv /usr/sbin/policy-rc.d.yardtide /usr/sbin/policy-rc.d; trap 'rm -f /usr/sbin/policy-rc.d' EXIT; }
rm -f /usr/sbin/policy-rc.d.yardtide
apt-get -o DPkg::Lock::Timeout=300 install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
