#!/bin/sh
# Written by Yard Gate at a rollout. Makes a snapshot of each dataset in the list beside it, and ends those that are not kept.
# Each line there: the file system; how many are kept by the hour, day, week and month; the path.
#
#   yardgate-snapshots             what the host's timer calls each hour
#   yardgate-snapshots now PATH    makes one of a dataset, and says its name
#
# They are named by their time, in UTC, as the SMB server's module shadow_copy2 looks for them. Others are left alone.
set -eu
umask 022
list=${YARDGATE_SNAPSHOTS:-/etc/yardgate-snapshots}
zfs_name() { zfs list -H -o mountpoint,name | at="$1" awk -F '\t' '$1 == ENVIRON["at"] { print $2; exit }'; }

make() { # KIND PATH
  at=$(date -u +GMT-%Y.%m.%d-%H.%M.%S)
  case $1 in
    btrfs)
      cd -P -- "$2" && test "$PWD" = "$2"
      test -d .snapshots || btrfs subvolume create .snapshots > /dev/null # outside of the quota, or none could be ended at it
      cd -P .snapshots && test "$PWD" = "$2/.snapshots" && test "$(stat -c %u .)" = 0
      setfacl --remove-all --remove-default . && chmod 0755 . # what it inherits; each snapshot has the list that its dataset had
      test -e "./@$at" || btrfs subvolume snapshot -r "$2" "./@$at" > /dev/null ;;
    zfs)
      name=$(zfs_name "$2")
      zfs list -H -o name "$name@$at" > /dev/null 2>&1 || zfs snapshot "$name@$at" ;;
  esac
  echo "@$at"
}

names() { # KIND PATH
  case $1 in
    btrfs) test ! -L "$2/.snapshots" && ls -- "$2/.snapshots" ;;
    zfs) name=$(zfs_name "$2") && zfs list -H -d 1 -t snapshot -o name "$name" | sed 's/^[^@]*//' ;;
  esac | grep '^@GMT-[0-9.]*-[0-9.]*$' || true
}

gone() { # HOURS DAYS WEEKS MONTHS: of names, those that are not the newest of a period that counts
  sort -r | awk -v hours="$1" -v days="$2" -v weeks="$3" -v months="$4" '
    function day(y, m, d) { # days since 1 March 0000, in the Gregorian calendar
      if (m < 3) { y--; m += 12 }
      return 365 * y + int(y / 4) - int(y / 100) + int(y / 400) + int((153 * (m - 3) + 2) / 5) + d - 1
    }
    function newest(period, most) { # whether this is the first that is seen of one of the first so many periods
      if (most == 0 || period in seen) return 0
      split(period, kind, " ")
      if (count[kind[1]] >= most) return 0
      seen[period]; count[kind[1]]++
      return 1
    }
    {
      split(substr($0, 6), part, /[.-]/)
      d = day(part[1] + 0, part[2] + 0, part[3] + 0)
      kept = newest("hour " d " " part[4], hours) + newest("day " d, days)
      kept += newest("week " int((d + 2) / 7), weeks) + newest("month " part[1] " " part[2], months)
      if (!kept) print
    }'
}

end() { # KIND PATH NAME
  case $1 in
    btrfs) cd -P -- "$2/.snapshots" && test "$PWD" = "$2/.snapshots" && btrfs subvolume delete "./$3" > /dev/null ;;
    zfs) name=$(zfs_name "$2") && zfs destroy "$name$3" ;;
  esac
}

if test "${1:-}" = now; then
  case $(stat -f -c %T -- "$2") in btrfs) make btrfs "$2" ;; *) make zfs "$2" ;; esac
  exit
fi
failed=no
while read -r kind hours days weeks months path; do
  case $kind in btrfs | zfs) ;; *) continue ;; esac
  if (make "$kind" "$path" > /dev/null); then
    names "$kind" "$path" | gone "$hours" "$days" "$weeks" "$months" | while read -r old; do
      (end "$kind" "$path" "$old") || echo "could not end $path$old" >&2
    done
  else
    echo "could not make a snapshot of $path" >&2
    failed=yes
  fi
done < "$list"
test "$failed" = no
