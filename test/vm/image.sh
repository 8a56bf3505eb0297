#!/usr/bin/env bash
# Makes what a guest boots from, of Debian's packages and without root rights:
#
#	image.sh KERNEL-PACKAGE FOLDER
#
# leaves in FOLDER: kernel, initrd, root.img (a partition table, one ext4 partition) and release (of the kernel).
set -euo pipefail
kernel=$1 out=$2
packages="busybox-static bash coreutils util-linux mount udev kmod e2fsprogs xfsprogs fio nbd-client libnbd-bin procps fdisk libc-bin
  mawk grep sed findutils jq nbdkit systemd systemd-sysv dpkg diffutils tar gzip sqlite3 stress-ng $kernel"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$out" "$work/archives/partial" "$work/tree" "$work/initrd"

: >"$work/status"
apt-get -qq -o Dir::State::status="$work/status" -o Dir::Cache::archives="$work/archives" -o APT::Install-Recommends=false \
  -o Debug::NoLocking=1 -y -d install $packages >/dev/null
for deb in "$work"/archives/*.deb; do
  case $deb in */perl* | */libperl* | */python* | */libpython* | */initramfs* | */libgl*) continue ;; esac
  dpkg-deb -x "$deb" "$work/tree"
done
tree=$work/tree
# fio is linked to cluster libraries that pull in a lot; all of it is there, what is not is left out above on purpose.
rm -rf "$tree"/usr/share/{doc,man,locale,info,lintian,bug,zoneinfo,i18n} "$tree"/usr/lib/x86_64-linux-gnu/{gconv,perl*}
for deb in "$work"/archives/libgl*.deb "$work"/archives/libgf*.deb; do [ ! -e "$deb" ] || dpkg-deb -x "$deb" "$tree"; done

release=$(ls "$tree"/lib/modules)
depmod -b "$tree" "$release"
cp "$tree/boot/vmlinuz-$release" "$out/kernel"
rm -rf "$tree"/boot/*

# The initrd loads what the root disk needs, and everything else that the tests use, in an order that works.
init=$work/initrd
mkdir -p "$init"/{bin,proc,sys,dev,root,modules,payload}
cp "$tree/bin/busybox" "$init/bin/busybox"
n=0
for module in virtio_pci virtio_blk ext4 virtio_console virtio_scsi sd_mod sg ahci nvme nbd fuse loop xfs scsi_debug ublk_drv; do
  modprobe -d "$tree" -S "$release" --show-depends "$module" 2>/dev/null | sed -n 's/^insmod \([^ ]*\).*/\1/p' || true
done | awk '!seen[$0]++' >"$work/modules"
while read -r file; do
  case $file in *scsi_debug* | *ublk*) continue ;; esac # loaded when a test asks for them
  n=$((n + 1))
  to=$init/modules/$(printf %03d $n)-$(basename "${file%.xz}")
  case $file in *.xz) xz -dc "$file" >"$to" ;; *) cp "$file" "$to" ;; esac
done <"$work/modules"
cat >"$init/init" <<'END'
#!/bin/busybox sh
/bin/busybox --install -s /bin
export PATH=/bin
mount -t proc proc /proc
mount -t sysfs sys /sys
mount -t devtmpfs dev /dev
for m in /modules/*; do insmod "$m" 2>/dev/null; done
for try in $(seq 200); do
  for d in /sys/block/vd*; do
    [ "$(cat $d/serial 2>/dev/null)" = system ] && root=/dev/${d##*/}1
  done
  [ -n "$root" ] && [ -b "$root" ] && break
  sleep 0.1
done
mount -t ext4 -o noatime "$root" /root || exec sh
cp /payload/* /root/usr/local/bin/ 2>/dev/null
mount --move /dev /root/dev
init=/usr/local/bin/agent
grep -q nidalo.systemd /proc/cmdline && init=/lib/systemd/systemd
umount /proc /sys
exec switch_root /root $init
END
chmod +x "$init/init"
(cd "$init" && find . -print0 | cpio --null -o -H newc --quiet | gzip -1) >"$out/initrd"
truncate -s %4 "$out/initrd" # more may follow, and must be aligned

mkdir -p "$tree"/{proc,sys,dev,run,tmp,root,usr/local/bin,var/lib/nidalo}
for link in sh; do ln -sf bash "$tree/bin/$link"; done
[ -e "$tree/usr/bin/awk" ] || ln -s mawk "$tree/usr/bin/awk"
printf 'root:x:0:0:root:/root:/bin/bash\n' >"$tree/etc/passwd"
cat >"$work/groups" <<'END'
root:x:0:
tty:x:5:
disk:x:6:
dialout:x:20:
audio:x:29:
video:x:44:
input:x:101:
kvm:x:102:
render:x:103:
sgx:x:104:
cdrom:x:24:
tape:x:26:
kmem:x:15:
lp:x:7:
END
cp "$work/groups" "$tree/etc/group"
echo gull >"$tree/etc/hostname"
# Packages are installed in the guest, so it has a list of those that are there.
mkdir -p "$tree"/var/lib/dpkg/{info,updates,triggers,alternatives} "$tree/usr/share/man"
for deb in "$work"/archives/*.deb; do
  dpkg-deb -f "$deb" | sed '/^Conffiles:/,/^[^ ]/d'
  printf 'Status: install ok installed\n\n'
done >"$tree/var/lib/dpkg/status"
touch "$tree/var/lib/dpkg/available"
# systemd as the first process, where the kernel is told so; the agent is a service then, from early until late.
cat >"$tree/etc/systemd/system/agent.service" <<'END'
[Unit]
DefaultDependencies=no
After=systemd-udevd.service
Conflicts=final.target
[Service]
ExecStart=/usr/local/bin/agent
Environment=HOME=/root PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
KillMode=process
Restart=always
OOMScoreAdjust=-1000
[Install]
WantedBy=sysinit.target
END
mkdir -p "$tree/etc/systemd/system/sysinit.target.wants"
ln -sf ../agent.service "$tree/etc/systemd/system/sysinit.target.wants/agent.service"
for unit in getty.target systemd-logind.service systemd-networkd.service systemd-resolved.service systemd-timesyncd.service e2scrub_reap.service \
  e2scrub_all.timer fstrim.timer dpkg-db-backup.timer systemd-firstboot.service systemd-pcrphase.service systemd-pcrphase-sysinit.service \
  systemd-hwdb-update.service systemd-journal-catalog-update.service ldconfig.service systemd-update-done.service; do
  ln -sf /dev/null "$tree/etc/systemd/system/$unit"
done
ln -sf /lib/systemd/system/multi-user.target "$tree/etc/systemd/system/default.target"
: >"$tree/etc/machine-id"
rm -rf "$tree/var/run" "$tree/var/lock"
ln -s /run "$tree/var/run"
ln -s /run/lock "$tree/var/lock"
: >"$tree/etc/fstab"
ldconfig -r "$tree" 2>/dev/null || true
truncate -s 1300M "$out/root.img"
echo 'start=2048, type=linux' | sfdisk -q -X gpt "$out/root.img"
mke2fs -q -t ext4 -L system -E offset=1048576 -d "$tree" "$out/root.img" 1298M 2>/dev/null
echo "$release" >"$out/release"
