#!/usr/bin/env bash
# Runs a script on an emulated machine that has ALSA's sequencer, as this one may not: Debian's kernel, four virtual
# raw MIDI ports, and this machine's files below it, read-only with a throw-away layer on top.
#   emulated_machine.sh FOLDER SCRIPT SECONDS   FOLDER keeps kernel and RAM disk for the next run; what SCRIPT prints
#                                               comes back, and its exit code
# Its clock counts instructions, one a nanosecond, so medians do not depend on what runs beside.
# What is written to /dev/snd/midiC0D0 leaves at the sequencer's port "VirMIDI 0-0", and what is sent to
# "VirMIDI 0-1" can be read from /dev/snd/midiC0D1.
set -eu
folder=$(mkdir -p "$1/out" && cd "$1" && pwd) script=$(realpath "$2") seconds=$3

missing=
for package in qemu-system-x86 busybox-static cpio kmod xz-utils; do
  dpkg-query -W -f='${Status}\n' "$package" 2>/dev/null | grep -q '^install ok installed' || missing="$missing $package"
done
if [ -n "$missing" ]; then
  if [ "$(id -u)" != 0 ]; then echo "Install first: sudo apt-get install -y$missing" >&2; exit 1; fi
  # shellcheck disable=SC2086
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null 2>&1 || { apt-get update -qq; \
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null; }
fi

if [ ! -f "$folder/initrd.gz" ]; then
  cd "$folder"
  rm -rf kernel disk && mkdir kernel
  package=$(apt-cache depends linux-image-amd64 | sed -n 's/.*Depends: //p' | head -1)
  apt-get download -qq "$package" 2>/dev/null
  dpkg-deb -x "$package"*.deb kernel && rm -f "$package"*.deb
  modules=$(echo kernel/lib/modules/*)
  version=$(basename "$modules")
  depmod -b "$folder/kernel" "$version"
  mkdir -p disk/{bin,modules,proc,sys,dev,tmp}
  cp "$(command -v busybox)" disk/bin/busybox
  for name in virtio_pci 9p 9pnet_virtio overlay snd-seq snd-seq-midi snd-virmidi; do
    modprobe -d "$folder/kernel" -S "$version" --show-depends "$name" 2>/dev/null | sed -n 's/^insmod \([^ ]*\).*/\1/p'
  done | awk '!seen[$0]++' >order
  : >disk/modules/order
  while read -r module; do
    case $module in
      *.xz) xz -dc "$module" >"disk/modules/$(basename "$module" .xz)" ;;
      *) cp "$module" disk/modules/ ;;
    esac
    basename "$module" .xz >>disk/modules/order
  done <order
  cat >disk/init <<'I'
#!/bin/busybox sh
B=/bin/busybox
$B mkdir -p /below /above /whole
$B --install -s /bin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev
while read -r module; do insmod "/modules/$module" 2>/dev/null || echo "no module $module"; done </modules/order
mount -t 9p -o trans=virtio,version=9p2000.L,cache=loose,ro,msize=262144 root /below || exec sh
mount -t tmpfs tmpfs /above; mkdir /above/files /above/work
mount -t overlay -o lowerdir=/below,upperdir=/above/files,workdir=/above/work overlay /whole
for one in proc sys dev; do mount --move /$one /whole/$one; done
mount -t tmpfs tmpfs /whole/run; mkdir -p /whole/dev/shm /whole/run/user /whole/run/home
mount -t tmpfs tmpfs /whole/dev/shm; chmod 700 /whole/run/user
mount -t tmpfs tmpfs /whole/tmp
mount -t 9p -o trans=virtio,version=9p2000.L,cache=none,msize=262144 out /whole/mnt
ip link set lo up
chroot /whole /usr/bin/env -i HOME=/run/home XDG_RUNTIME_DIR=/run/user LANG=C.UTF-8 PYTHONDONTWRITEBYTECODE=1 \
  PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin /bin/bash /mnt/script >/whole/mnt/log 2>&1
echo $? >/whole/mnt/code; sync; poweroff -f
I
  chmod +x disk/init
  (cd disk && find . | cpio -o -H newc --quiet | gzip -1) >initrd.gz
fi

cp "$script" "$folder/out/script"
rm -f "$folder/out/code" "$folder/out/log"
timeout "$seconds" qemu-system-x86_64 -accel tcg -icount shift=0 -cpu max -smp 1 -m 1500 -nographic -no-reboot -net none \
  -kernel "$folder"/kernel/boot/vmlinuz-* -initrd "$folder/initrd.gz" -append "console=ttyS0 quiet panic=1" \
  -virtfs local,path=/,mount_tag=root,security_model=none,readonly=on,multidevs=remap \
  -virtfs local,path="$folder/out",mount_tag=out,security_model=none >"$folder/boot.log" 2>&1 </dev/null || true
cat "$folder/out/log" 2>/dev/null || { echo "the machine did not start:"; tail -5 "$folder/boot.log"; }
exit "$(cat "$folder/out/code" 2>/dev/null || echo 1)"
