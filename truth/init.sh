#!/bin/busybox sh
# The first program of a small Linux that tells whether it found its root and all
# that its mount table names. Messages go to the serial port; then it ends.
bb=/bin/busybox
$bb mkdir -p /proc /sys /dev /new
$bb mount -t proc none /proc
$bb mount -t sysfs none /sys
$bb mount -t devtmpfs none /dev
say() {
  echo "MARK $* entry=" > /dev/ttyS0
  $bb sleep 1
  $bb poweroff -f
}
# named NAME: the partition that carries a name, read from the tables: the GUID of
# a GPT entry, or the disk signature and the number.
named() {
  want=$(echo "$1" | $bb tr A-Z a-z)
  for p in /sys/class/block/*/partition; do
    dir=${p%/partition}
    n=$($bb cat "$p")
    disk=/dev/$($bb basename "$($bb readlink -f "$dir/..")")
    bytes() { $bb dd if="$disk" bs=1 skip="$1" count="$2" 2>/dev/null | $bb od -An -v -tx1 | $bb tr -d ' \n'; }
    if [ "$(bytes 512 8)" = 4546492050415254 ]; then
      g=$(bytes $((1024 + 128 * (n - 1) + 16)) 16)
      have=$(echo "$g" | $bb awk '{ s=$0; printf "%s%s%s%s-%s%s-%s%s-%s-%s", substr(s,7,2), substr(s,5,2), substr(s,3,2), substr(s,1,2), substr(s,11,2), substr(s,9,2), substr(s,15,2), substr(s,13,2), substr(s,17,4), substr(s,21,12) }')
    else
      have=$(bytes 440 4 | $bb awk '{ s=$0; printf "%s%s%s%s", substr(s,7,2), substr(s,5,2), substr(s,3,2), substr(s,1,2) }')-$($bb printf %02x "$n")
    fi
    [ "$have" = "$want" ] && echo "/dev/$($bb basename "$dir")" && return
  done
}
# find SPEC: the device that a name of a file system or partition means.
find() {
  case "$1" in
    UUID=*|LABEL=*) $bb findfs "$1" 2>/dev/null ;;
    PARTUUID=*) named "${1#PARTUUID=}" ;;
    /dev/*) [ -b "$1" ] && echo "$1" ;;
  esac
}
for word in $($bb cat /proc/cmdline); do
  case "$word" in root=*) root=${word#root=} ;; esac
done
for i in 1 2 3 4 5; do
  device=$(find "$root")
  [ -n "$device" ] && break
  $bb sleep 1
done
[ -n "$device" ] || say "stop:root"
$bb mount -o ro "$device" /new || say "stop:mount"
while read -r spec where type options rest; do
  case "$spec" in ''|'#'*) continue ;; esac
  case ",$options," in *,nofail,*|*,noauto,*) continue ;; esac
  [ -n "$(find "$spec")" ] || say "stop:fstab"
done < /new/etc/fstab
say "started:$($bb cat /new/etc/drive)"
