#!@BUSYBOX@ sh
# Start of an initial file system made by Embrak: loads modules, waits for the root the command line names, goes there.
bb=@BUSYBOX@
$bb mount -t devtmpfs dev /dev
$bb mount -t proc proc /proc
$bb mount -t sysfs sys /sys
$bb mount -t tmpfs -o mode=0755,nosuid,nodev run /run

root= kind=auto flags=ro init=/sbin/init
for word in $($bb cat /proc/cmdline); do
    case $word in
        root=*) root=${word#root=} ;;
        rootfstype=*) kind=${word#rootfstype=} ;;
        ro|rw) flags=$word ;;
        rootflags=*) flags=$flags,${word#rootflags=} ;;
        init=*) init=${word#init=} ;;
    esac
done

while read -r module; do
    $bb insmod "$module" 2>/run/insmod || echo "initrd: $module: $($bb cat /run/insmod)"
done < /etc/initrd-modules

if [ -z "$root" ]; then
    # No root is named: the system stays in memory.
    [ -x /sbin/init ] && exec /sbin/init
    exec $bb sh
fi

device=
tries=0
while [ $tries -lt 100 ]; do
    case $root in
        UUID=*|LABEL=*) device=$($bb findfs "$root" 2>/dev/null) ;;
        PARTLABEL=*|PARTUUID=*)
            key=${root%%=*} value=${root#*=}
            [ "$key" = PARTLABEL ] && key=PARTNAME
            for event in /sys/class/block/*/uevent; do
                if $bb grep -qix "$key=$value" "$event"; then
                    device=${event%/uevent}
                    device=/dev/${device##*/}
                fi
            done ;;
        *) device=$root ;;
    esac
    [ -n "$device" ] && [ -b "$device" ] && break
    device=
    tries=$((tries + 1))
    $bb usleep 100000
done
if [ -z "$device" ]; then
    echo "initrd: there is no $root; block devices are:"
    $bb ls /sys/class/block
    exec $bb sh
fi

if ! $bb mount -t "$kind" -o "$flags" "$device" /sysroot; then
    echo "initrd: $device cannot be mounted as $kind"
    exec $bb sh
fi
for dir in dev proc sys run; do
    $bb mkdir -p "/sysroot/$dir"
    $bb mount --move "/$dir" "/sysroot/$dir"
done
exec $bb switch_root /sysroot "$init"
echo "initrd: $init cannot be started"
exec $bb sh
