# Writes an image of the medium onto this machine's disk, after somebody has said which, where to, and that the disk may be erased.
ask() { printf '  %s: ' "$1"; read -r answer || { sleep 5; answer=''; }; }
disk=$(arg vembar.disk)
while :; do
    rule
    vembar list /mnt/images.vmb
    rule
    number=1
    if [ "$(vembar list /mnt/images.vmb --json | tr ',' '\n' | grep -c '"number"')" -gt 1 ]; then
        ask "which image (its number)"
        number=$answer
    fi
    if [ -z "$disk" ]; then
        # shellcheck disable=SC2086
        set -- $disks
        case $# in
            0) say "no disk is there that an image could go to"; ask "Enter looks again"; find_disks; continue ;;
            1) disk=/dev/$1 ;;
            *)
                for d in $disks; do printf '  /dev/%-10s %6s MiB  %s\n' "$d" $(($(cat "/sys/block/$d/size") / 2048)) \
                    "$(cat "/sys/block/$d/device/model" 2>/dev/null)"; done
                ask "which disk"
                disk=/dev/${answer#/dev/}
                ;;
        esac
    fi
    ask "the machine's name (Enter for what the image has)"
    layout=bios
    [ -d /sys/firmware/efi ] && layout=uefi
    set -- "/mnt/images.vmb#$number" "$disk" --erase --layout "$layout" --verify
    [ -n "$answer" ] && set -- "$@" --computer-name "$answer"
    vembar deploy "$@" && break
    say "the disk was not written; once more from the beginning"
    disk=$(arg vembar.disk)
done
rule
umount /mnt
finish
