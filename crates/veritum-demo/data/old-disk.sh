#!/bin/sh
# old-disk.sh OUT.img.zst - makes the image of an old computer's disk that the demo contains: ext4, 6 MiB, one user.
# Needs root (owners), e2fsprogs and zstd. Prints the byte ranges of the two files that the demo declares unreadable.
set -eu
export E2FSPROGS_FAKE_TIME=1772438530
top=$(mktemp -d); image=$top/disk.img; root=$top/root
text() { # PATH LINES WORD: a text of its own, the same every time
    mkdir -p "$root/$(dirname "$1")"
    awk -v lines="$2" -v word="$3" 'BEGIN { for (i = 1; i <= lines; i++) printf "%s %d: berth %d, tide %d cm\n", word, i, i * 7 % 31, i * 13 % 411 }' > "$root/$1"
}
mkdir -p "$root/etc" "$root/home/mirela"
printf 'root:x:0:0:root:/root:/bin/sh\nmirela:x:1000:1000:Mirela:/home/mirela:/bin/sh\n' > "$root/etc/passwd"
echo pierhouse-01 > "$root/etc/hostname"
echo 5f0c6a1e8b7d4c2f9a3e1d0b6c8f7a25 > "$root/etc/machine-id"
printf 'PRETTY_NAME="Foreshore 3.9"\nID=foreshore\nVERSION_ID=3.9\n' > "$root/etc/os-release"
text usr/bin/berthbook 900 program
text home/mirela/Letters/harbour-office.txt 700 letter
text home/mirela/Letters/insurance.txt 500 letter
text home/mirela/Bookings/season.csv 1200 booking
text home/mirela/.gullmail/harbour.box/mail/inbox 800 mail
text home/mirela/.config/berthbook/settings.conf 20 setting
text home/mirela/.cache/berthbook/index 300 cache
text home/mirela/.local/share/Trash/files/draft.txt 40 draft
text home/mirela/Pictures/quay.jpg 600 picture
ln -s Letters/insurance.txt "$root/home/mirela/latest"
chown -R 1000:1000 "$root/home/mirela"
find "$root" -exec touch -h -d @1772438400 {} +
truncate -s 6M "$image"
mkfs.ext4 -q -F -b 1024 -N 64 -O ^resize_inode,metadata_csum -U 3d5c0b52-6a53-4a57-8d0e-6d1f6a0f7b11 \
    -E hash_seed=0c2d7a1e-5b7f-4a0a-9d5a-1f2e3d4c5b6a,root_owner=0:0 -L pierhouse -d "$root" "$image"
for path in /usr/bin/berthbook /home/mirela/Letters/harbour-office.txt; do
    debugfs -R "dump_extents -l $path" "$image" 2> /dev/null | awk -v path="$path" 'NR == 2 { print path, $0 }'
done
zstd -q -19 -f "$image" -o "$1"
rm -r "$top"
