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

about() { # NUMBER WHAT: what the next step is for
  number=$1 what=$2
}

tell() { # RESULT
  printf '%s %s: %s\n' "$number" "$what" "$1"
}

same() {
  already=$((already + 1))
  tell "so already"
}

skip() { # WHY
  skipped=$((skipped + 1))
  tell "SKIPPED, $1"
}

do_it() { # COMMAND...
  if "$@"; then
    made=$((made + 1))
    tell made
  else
    skip "$1 failed"
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

set_day() { # FIELD OPTION NAME FOUND THEN: a day of /etc/shadow, by chage
  if ! now=$(field_of /etc/shadow "$3" "$1"); then
    skip "no line of /etc/shadow has this name"
    return
  fi
  if [ "$now" = -1 ]; then now=; fi
  if [ "$now" = "$5" ]; then
    same
  elif [ "$now" != "$4" ]; then
    skip "the day is ${now:-not set} now, and was ${4:-not set}"
  else
    do_it chage "$2" "${5:--1}" -- "$3"
  fi
}

expire() { # NAME FOUND THEN: the day from which the account is barred
  set_day 8 -E "$1" "$2" "$3"
}

changed() { # NAME FOUND THEN: the day of the last change of password; 0 demands a new one
  set_day 3 -d "$1" "$2" "$3"
}

leave() { # NAME GROUP
  if ! members=$(field_of /etc/group "$2" 4); then
    skip "there is no such group"
    return
  fi
  case ,$members, in
    *,"$1",*) do_it gpasswd -d "$1" -- "$2" ;;
    *) same ;;
  esac
}

join() { # NAME GROUP
  if ! members=$(field_of /etc/group "$2" 4); then
    skip "there is no such group"
    return
  fi
  case ,$members, in
    *,"$1",*) same ;;
    *) do_it gpasswd -a "$1" -- "$2" ;;
  esac
}

as_owner() { # FILE COMMAND...: as who owns the folder of the file, and could put another in its place
  folder=$(dirname -- "$1")
  shift
  owner=$(stat -c %u -- "$folder") && group=$(stat -c %g -- "$folder") || return
  setpriv --reuid="$owner" --regid="$group" --clear-groups -- "$@"
}

edit() { # FILE EDITS: with the file as it was beside it
  kept=$1.before-keymallet
  if ! [ -e "$kept" ] && ! as_owner "$1" cp -p --remove-destination -- "$1" "$kept"; then
    skip "the file cannot be kept as it was"
    return
  fi
  do_it as_owner "$1" sed -i -- "$2" "$1"
}

is_plain() { # FILE
  if [ -L "$1" ] || ! [ -f "$1" ]; then
    skip "there is no such file, or it is a link"
    return 1
  fi
  if [ "$(stat -c %u -- "$1")" != "$(stat -c %u -- "$(dirname -- "$1")")" ]; then
    skip "the file and its folder are not of the same owner: make it by hand"
    return 1
  fi
}

digest_of() { # WORD: of the bytes of a key
  printf %s "$1" | base64 -d 2>&- | sha256sum | cut -d' ' -f1
}

close_key() { # FILE DIGEST MARK: the lines with the key become comments
  is_plain "$1" || return
  if [ "$(digest_of QQ==)" != 559aead08264d5795d3909718cdd05abd49572e84fe55590eef31a88a08fdffd ]; then
    skip "base64 and sha256sum do not work here"
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
          if [ "$(digest_of "$word")" = "$2" ]; then
            edits="$edits${place}s/^/$3/;"
            break
          fi
          ;;
      esac
    done
    set +f
  done < "$1"
  if [ -z "$edits" ]; then same; else edit "$1" "$edits"; fi
}

open_key() { # FILE DIGEST MARK: the comments become lines again
  is_plain "$1" || return
  if grep -q "^$3" -- "$1"; then edit "$1" "s/^$3//"; else same; fi
}

finish() {
  printf '%s made, %s so already, %s skipped\n' "$made" "$already" "$skipped"
  [ "$skipped" = 0 ]
}

