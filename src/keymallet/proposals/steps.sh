# What the steps below are made of. Each looks first: what is so already, or has changed, is left alone.

set -u
LC_ALL=C
PATH=/usr/sbin:/usr/bin:/sbin:/bin
export LC_ALL PATH
made=0 already=0 skipped=0

if [ "$(id -u)" != 0 ]; then
  echo "this has to be run as root" >&2
  exit 2
fi
if [ "$(uname -n)" != "$host" ] && [ "${1-}" != --here ]; then
  printf 'this is for the host %s, and this one is %s; if they are the same: sh %s --here\n' \
    "$host" "$(uname -n)" "$0" >&2
  exit 2
fi

same() { # NUMBER
  already=$((already + 1))
  printf '%s: so already\n' "$1"
}

skip() { # NUMBER WHY
  skipped=$((skipped + 1))
  printf '%s: SKIPPED, %s\n' "$1" "$2"
}

do_it() { # NUMBER COMMAND...
  number=$1
  shift
  if "$@"; then
    made=$((made + 1))
    printf '%s: made\n' "$number"
  else
    skip "$number" "$1 failed"
  fi
}

field_of() { # FILE NAME NUMBER: a field of the first line of this name
  while IFS= read -r line || [ -n "$line" ]; do
    case $line in
      "$2":*)
        printf '%s\n' "$line" | cut -d: -f"$3"
        return 0
        ;;
    esac
  done < "$1"
  return 1
}

set_day() { # NUMBER FIELD OPTION NAME FOUND THEN: a day of /etc/shadow, by chage
  if ! now=$(field_of /etc/shadow "$4" "$2"); then
    skip "$1" "no line of /etc/shadow has this name"
    return
  fi
  if [ "$now" = -1 ]; then now=; fi
  if [ "$now" = "$6" ]; then
    same "$1"
  elif [ "$now" != "$5" ]; then
    skip "$1" "the day is ${now:-not set} now, and was ${5:-not set}"
  else
    do_it "$1" chage "$3" "${6:--1}" -- "$4"
  fi
}

expire() { # NUMBER NAME FOUND THEN: the day from which the account is barred
  set_day "$1" 8 -E "$2" "$3" "$4"
}

changed() { # NUMBER NAME FOUND THEN: the day of the last change of password; 0 demands a new one
  set_day "$1" 3 -d "$2" "$3" "$4"
}

leave() { # NUMBER NAME GROUP
  if ! members=$(field_of /etc/group "$3" 4); then
    skip "$1" "there is no such group"
    return
  fi
  case ,$members, in
    *,"$2",*) do_it "$1" gpasswd -d "$2" -- "$3" ;;
    *) same "$1" ;;
  esac
}

join() { # NUMBER NAME GROUP
  if ! members=$(field_of /etc/group "$3" 4); then
    skip "$1" "there is no such group"
    return
  fi
  case ,$members, in
    *,"$2",*) same "$1" ;;
    *) do_it "$1" gpasswd -a "$2" -- "$3" ;;
  esac
}

as_owner() { # FILE COMMAND...: as who owns the folder of the file, and could put another in its place
  folder=$(dirname -- "$1")
  shift
  owner=$(stat -c %u -- "$folder") && group=$(stat -c %g -- "$folder") || return
  setpriv --reuid="$owner" --regid="$group" --clear-groups -- "$@"
}

edit() { # NUMBER FILE EDITS: with the file as it was beside it
  kept=$2.before-keymallet
  if ! [ -e "$kept" ] && ! as_owner "$2" cp -p --remove-destination -- "$2" "$kept"; then
    skip "$1" "the file cannot be kept as it was"
    return
  fi
  do_it "$1" as_owner "$2" sed -i -- "$3" "$2"
}

is_plain() { # NUMBER FILE
  if [ -L "$2" ] || ! [ -f "$2" ]; then
    skip "$1" "there is no such file, or it is a link"
    return 1
  fi
  if [ "$(stat -c %u -- "$2")" != "$(stat -c %u -- "$(dirname -- "$2")")" ]; then
    skip "$1" "the file and its folder are not of the same owner: make it by hand"
    return 1
  fi
}

digest_of() { # WORD: of the bytes of a key
  printf %s "$1" | base64 -d 2>&- | sha256sum | cut -d' ' -f1
}

close_key() { # NUMBER FILE DIGEST MARK: the lines with the key become comments
  is_plain "$1" "$2" || return
  if [ "$(digest_of QQ==)" != 559aead08264d5795d3909718cdd05abd49572e84fe55590eef31a88a08fdffd ]; then
    skip "$1" "base64 and sha256sum do not work here"
    return
  fi
  place=0 edits=
  while IFS= read -r line || [ -n "$line" ]; do
    place=$((place + 1))
    case ${line#"${line%%[! 	]*}"} in
      '#'*) continue ;;
    esac
    set -f
    for word in $line; do
      case $word in
        AAAA*)
          if [ "$(digest_of "$word")" = "$3" ]; then
            edits="$edits${place}s/^/$4/;"
            break
          fi
          ;;
      esac
    done
    set +f
  done < "$2"
  if [ -z "$edits" ]; then same "$1"; else edit "$1" "$2" "$edits"; fi
}

open_key() { # NUMBER FILE DIGEST MARK: the comments become lines again
  is_plain "$1" "$2" || return
  if grep -q "^$4" -- "$2"; then edit "$1" "$2" "s/^$4//"; else same "$1"; fi
}

finish() {
  printf '%s made, %s so already, %s skipped\n' "$made" "$already" "$skipped"
  [ "$skipped" = 0 ]
}

