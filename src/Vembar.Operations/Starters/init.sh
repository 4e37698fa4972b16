#!/bin/sh
# The first program of a starter. On the kernel's command line: vembar.station=ADDRESS, vembar.attended=1, vembar.shell=1,
# vembar.after=restart|off|stay, vembar.disk=/dev/...
export PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root TMPDIR=/tmp TERM=linux
mount -t proc proc /proc
mount -t sysfs sys /sys
mount -t devtmpfs dev /dev 2>/dev/null
mkdir -p /dev/shm /dev/pts
mount -t devpts pts /dev/pts 2>/dev/null
mount -t tmpfs -o size=70% tmp /tmp
mount -t tmpfs run /run

. /etc/vembar/starter
export VEMBAR_STARTER="$STARTER_VERSION"
arg() { for a in $(cat /proc/cmdline); do case $a in "$1"=*) echo "${a#"$1"=}" ;; esac; done; }
say() { printf '  %6.1f  %s\n' "$(cut -d' ' -f1 /proc/uptime)" "$*"; }
rule() { printf '  %s\n' '----------------------------------------------------------------------'; }

printf '\n'
rule
printf '  VEMBAR  %s %s\n' "$STARTER" "$STARTER_VERSION"
rule

# What the devices ask for; more of them appear when their buses are there, and links come up. Nothing new for 0.9 s ends it.
now() { read -r up rest < /proc/uptime; echo "${up%.*}${up#*.}"; }
before=''
since=$(now)
until=$((since + 3000))
while [ "$(now)" -lt "$until" ]; do
    asked=$(cat /sys/bus/*/devices/*/modalias /sys/class/dmi/id/modalias 2>/dev/null | sort -u)
    if [ "$asked" != "$before" ]; then
        before=$asked
        echo "$asked" | xargs modprobe -a -q -b 2>/dev/null
        since=$(now)
    elif [ $(($(now) - since)) -ge 90 ]; then
        break
    fi
    sleep 0.3
done
modprobe -q sd_mod
modprobe -q af_packet
mdev -s 2>/dev/null
[ -d /sys/firmware/efi ] && { modprobe -q efivarfs; mount -t efivarfs efivarfs /sys/firmware/efi/efivars 2>/dev/null; }

# Whether a device is what the machine was started from: by the name in its volume descriptor (ECMA-119).
is_medium() { [ "$(dd if="$1" bs=1 skip=32808 count=14 2>/dev/null)" = VEMBAR_STARTER ]; }
find_disks() {
    disks=''
    for d in /sys/block/*; do
        [ -e "$d/device" ] && [ "$(cat "$d/removable")" = 0 ] && [ "$(cat "$d/size")" != 0 ] && ! is_medium "/dev/${d##*/}" || continue
        case ${d##*/} in sr*|fd*|mmcblk*boot*) ;; *) disks="$disks ${d##*/}" ;; esac
    done
}
find_disks
say "disks:${disks:- none}"

# A wave comes faster than a machine that writes takes it.
echo 33554432 > /proc/sys/net/core/rmem_max
ip link set lo up
cards=''
for i in /sys/class/net/*; do
    i=${i##*/}
    [ "$i" = lo ] && continue
    cards="$cards $i"
    ip link set "$i" up
done
if [ -z "$cards" ]; then
    say "no network card that this starter has a module for; what is there:"
    for d in /sys/bus/pci/devices/*; do
        case $(cat "$d/class") in 0x02*) say "  pci $(cat "$d/vendor") $(cat "$d/device")" ;; esac
    done
    say "make a starter with its module or firmware: vembar starter check names what is missing"
fi
carried=$(arg vembar.carried)
[ "$carried" = 1 ] || for i in $cards; do
    udhcpc -i "$i" -n -q -t 6 -T 1 -A 1 -s /etc/vembar/lease >/dev/null 2>&1 && say "$i: $(ip -4 addr show dev "$i" | awk '$1=="inet"{print $2}')"
done
[ -s /run/lease ] || [ "$carried" = 1 ] || say "no address from the network yet"

[ -x /etc/vembar/before ] && { say "the organisation's own script"; /etc/vembar/before; }
[ "$(arg vembar.shell)" = 1 ] && { say "a shell, as asked for; exit goes on"; sh; }

# The program is compiled for the processors of the last ten years; on others it would only abort, again and again.
case " $(cat /proc/cpuinfo 2>/dev/null) " in
    *' avx2 '*) ;;
    *)
        say "this machine's processor has no AVX2: this starter cannot deploy it"
        while :; do sleep 3600; done
        ;;
esac

# What is done when the disk is written.
finish() {
    sync
    # Firmware that asks its own list first finds the new disk there.
    if [ -d /sys/firmware/efi/efivars ] && [ -n "$(ls /sys/firmware/efi/efivars 2>/dev/null)" ]; then
        first=${disk:-/dev/$(echo $disks | cut -d' ' -f1)}
        efibootmgr -q -c -d "$first" -p 1 -L Windows -l '\EFI\Microsoft\Boot\bootmgfw.efi' 2>/dev/null \
            && say "the firmware starts from the disk now"
    fi
    case $(arg vembar.after) in
        off) say "done: switching off"; sync; poweroff -f ;;
        stay) say "done"; sh ;;
        *) say "done: starting from the disk"; sync; reboot -f ;;
    esac
    sleep 60
}

# Images from the medium that the machine was started from, with no station.
if [ "$carried" = 1 ]; then
    medium=''
    for turn in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15; do
        for d in /sys/block/*; do
            is_medium "/dev/${d##*/}" && mount -t iso9660 -o ro "/dev/${d##*/}" /mnt 2>/dev/null && [ -f /mnt/images.vmb ] \
                && medium=${d##*/} && break 2
            umount /mnt 2>/dev/null
        done
        sleep 1
    done
    if [ -n "$medium" ]; then
        find_disks
        . /etc/vembar/carried
    else
        say "the medium that this machine was started from is not found: joining a station instead"
    fi
fi

station=$(arg vembar.station)
station=${station:-$STATION}
if [ -z "$station" ] && [ -s /run/server ]; then station="https://$(cat /run/server):8470"; fi
set -- --ca /etc/vembar/authority.pem
[ -s /etc/vembar/authority.pem ] || set --
disk=$(arg vembar.disk)
[ -n "$disk" ] && set -- "$@" --disk "$disk"
[ "$(arg vembar.attended)" = 1 ] && set -- "$@" --attended

# Whether somebody listens there; HOST, HOST:PORT or the whole address.
answers() {
    rest=${1#*://}
    rest=${rest%%/*}
    case $rest in
        \[*\]) host=${rest#\[} host=${host%\]} port=8470 ;;
        \[*\]:*) host=${rest#\[} host=${host%%\]*} port=${rest##*:} ;;
        *:*) host=${rest%%:*} port=${rest##*:} ;;
        *) host=$rest port=8470 ;;
    esac
    case $host in *:*) address="https://[$host]:$port" ;; *) address="https://$host:$port" ;; esac
    timeout 8 nc -w 5 "$host" "$port" </dev/null >/dev/null 2>&1
    [ $? != 1 ] || { say "nobody answers at $host port $port"; return 1; }
}

typed=''
while :; do
    if [ -z "$station" ]; then
        say "no station is known: vembar.station=https://HOST:8470 on the kernel's command line names it"
        printf '  station: '
        read -r typed || sleep 30
        # What was typed wrong is asked for again.
        [ -n "$typed" ] && answers "$typed" && station=$address
        continue
    fi
    say "joining $station"
    rule
    if vembar station join "$station" "$@" --plain; then break; fi
    [ -z "$typed" ] || { station='' typed=''; continue; }
    say "trying again"
    sleep 5
    # The lease may have come late, or gone.
    for i in $cards; do [ -s /run/lease ] || udhcpc -i "$i" -n -q -t 3 -T 1 -s /etc/vembar/lease >/dev/null 2>&1; done
done
rule
finish
