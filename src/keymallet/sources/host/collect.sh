#!/bin/sh
# Puts together what Keymallet reads of this host, into one archive. It only reads, and sends nothing anywhere.
#
#   sh collect.sh [-o ARCHIVE] [-r ROOT]
#
# Run it as root: else much is left out, and it says what. No private key is taken. The archive holds password
# hashes, as /etc/shadow does: keep it as closely. ROOT (default /) is where the host's files stand.
set -u
LC_ALL=C
export LC_ALL
umask 077

root=/ archive=
while getopts o:r: option; do
    case $option in
    o) archive=$OPTARG ;;
    r) root=$OPTARG ;;
    *) sed -n '2,7s/^# \{0,1\}//p' "$0" >&2 && exit 2 ;;
    esac
done
root=${root%/}
if [ ! -r "$root/etc/passwd" ]; then
    echo "$root/etc/passwd cannot be read: this is no host's root" >&2
    exit 2
fi
name=$(head -n 1 "$root/etc/hostname" 2>/dev/null || uname -n)
: "${archive:=${name:-host}.tar.gz}"
case $archive in /*) ;; *) archive=$PWD/$archive ;; esac
work=
tidy() { rm -rf ${work:+"$work"} "$archive.part"; }
trap tidy EXIT
# A copy that was just begun may outlive the interrupt by a moment, and write what was removed already.
trap 'tidy; sleep 1; exit 130' HUP INT TERM
work=$(mktemp -d) || exit 2
mkdir "$work/host" || exit 2
list=$work/list found=$work/host/keymallet.collected
: >"$list"
: >"$found"

# note WORD PATH: one line of what was found.
note() {
    printf '%s %s\n' "$1" "$2" >>"$found"
}

# reach PATH: notes every folder and link on the way, as the host itself follows them; $at is where it ends.
reach() {
    rest=${1#/} at= links=0
    while [ -n "$rest" ]; do
        part=${rest%%/*}
        case $rest in */*) rest=${rest#*/} ;; *) rest= ;; esac
        case $part in
        '' | .) continue ;;
        ..) at=${at%/*} && continue ;;
        esac
        if [ -h "$root$at/$part" ]; then
            printf '%s\n' ".$at/$part" >>"$list"
            links=$((links + 1))
            [ "$links" -gt 40 ] && return 1
            target=$(readlink "$root$at/$part") || return 1
            case $target in
            /*) at= ;;
            esac
            rest=${target#/}${rest:+/$rest}
            continue
        fi
        at=$at/$part
        if [ -d "$root$at" ]; then
            printf '%s\n' ".$at" >>"$list"
        fi
    done
    [ -e "$root$at" ]
}

# take PATH: one file, if it is there and can be read.
take() {
    if ! reach "$1"; then
        # What lies in a folder that cannot be searched may be there all the same.
        above=${at%/*}
        while [ -n "$above" ] && [ ! -d "$root$above" ]; do above=${above%/*}; done
        if [ -x "$root$above/" ]; then note none "$1"; else note unread "$1"; fi
    elif [ -f "$root$at" ] && [ -r "$root$at" ]; then
        printf '%s\n' ".$at" >>"$list"
        note taken "$1"
    elif [ ! -d "$root$at" ]; then
        note unread "$1"
    fi
}

# take_all FOLDER PATTERN...: the files of a folder whose names fit.
take_all() {
    folder=${1%/}
    shift
    reach "$folder" || return 0
    real=$at
    if [ -d "$root$real" ] && [ ! -r "$root$real" ]; then
        note unread "$folder/"
        return 0
    fi
    for pattern; do
        for file in "$root$real"/$pattern; do
            case $file in *"
"*) continue ;; esac
            if [ -f "$file" ]; then take "$folder/${file##*/}"; fi
        done
    done
}

# values KEYWORD FILE: what an sshd configuration sets it to, wherever, a word a line. KEYWORD is a sed pattern.
values() {
    sed -n "s/^[[:space:]]*$1[[:space:]=][[:space:]=]*//p" "$root$2" 2>/dev/null | tr -d '"\r' | tr '\t ' '\n\n' | sed '/^#/,$d;/^$/d'
}

for file in passwd shadow group gshadow login.defs hostname timezone os-release nsswitch.conf sudoers \
    security/faillock.conf security/pwquality.conf ssh/sshd_config; do
    take "/etc/$file"
done
take /usr/lib/os-release
if [ -h "$root/etc/localtime" ]; then printf '%s\n' ./etc/localtime >>"$list"; fi
take_all /etc/pam.d '*'
take_all /etc/security/pwquality.conf.d '*.conf'
take_all /etc/sudoers.d '*'
take_all /var/log 'wtmp*' 'btmp*' 'auth.log*' 'secure*'
# It has a place for each user id: mostly holes, and with large ids longer than any disk.
sparse=
if tar --help 2>&1 | grep -q -e --sparse; then sparse=--sparse; fi
if [ -n "$sparse" ] || [ -z "$(find "$root/var/log/lastlog" -size +200000 2>/dev/null)" ]; then
    take /var/log/lastlog
else
    note unread /var/log/lastlog
fi
take_all /var/lib/lastlog '*.db'
take_all /var/lib/wtmpdb '*.db'
for folder in /run/faillock /var/run/faillock; do take_all "$folder" '*'; done
for folder in $(sed -n 's/^[[:space:]]*dir[[:space:]]*=[[:space:]]*//p' "$root/etc/security/faillock.conf" 2>/dev/null); do
    take_all "$folder" '*'
done
for folder in $(sed -n 's/^[[:space:]]*[@#]includedir[[:space:]]*//p' "$root/etc/sudoers" 2>/dev/null); do
    take_all "$folder" '*'
done
for file in $(sed -n 's/^[[:space:]]*[@#]include[[:space:]][[:space:]]*//p' "$root/etc/sudoers" 2>/dev/null); do
    case $file in /*) take "$file" ;; *) take "/etc/$file" ;; esac
done

# What the SSH server's configuration names, with what it includes.
configs=/etc/ssh/sshd_config todo=/etc/ssh/sshd_config
while [ -n "$todo" ]; do
    next=
    for config in $todo; do
        for pattern in $(values '[Ii][Nn][Cc][Ll][Uu][Dd][Ee]' "$config"); do
            case $pattern in /*) ;; *) pattern=/etc/ssh/$pattern ;; esac
            take_all "${pattern%/*}" "${pattern##*/}"
            for file in "$root${pattern%/*}"/${pattern##*/}; do
                file=${file#"$root"}
                case " $configs " in *" $file "*) continue ;; esac
                if [ -f "$root$file" ]; then configs="$configs $file" next="$next $file"; fi
            done
        done
    done
    todo=$next
done
keys= names=
set -f
for config in $configs; do
    keys="$keys $(values '[Aa][Uu][Tt][Hh][Oo][Rr][Ii][Zz][Ee][Dd][Kk][Ee][Yy][Ss][Ff][Ii][Ll][Ee]' "$config")"
    names="$names $(values '[Aa][Uu][Tt][Hh][Oo][Rr][Ii][Zz][Ee][Dd][Pp][Rr][Ii][Nn][Cc][Ii][Pp][Aa][Ll][Ss][Ff][Ii][Ll][Ee]' "$config")"
    for file in $(values '[Tt][Rr][Uu][Ss][Tt][Ee][Dd][Uu][Ss][Ee][Rr][Cc][Aa][Kk][Ee][Yy][Ss]' "$config") \
        $(values '[Rr][Ee][Vv][Oo][Kk][Ee][Dd][Kk][Ee][Yy][Ss]' "$config"); do
        case $file in /*) take "$file" ;; esac
    done
done
keys="$keys .ssh/authorized_keys .ssh/authorized_keys2"

# expand PATTERN HOME NAME ID: sshd's signs filled in, from the home if it is no whole path.
expand() {
    rest=$1 path=
    while :; do
        case $rest in
        *%*)
            path=$path${rest%%\%*} rest=${rest#*%}
            case $rest in
            h*) path=$path$2 ;;
            u*) path=$path$3 ;;
            U*) path=$path$4 ;;
            %*) path=$path% ;;
            esac
            rest=${rest#?}
            ;;
        *) path=$path$rest && break ;;
        esac
    done
    case $path in /*) ;; *) path=${2%/}/$path ;; esac
}

# Each account's keys, and whether its shell runs.
shells=" "
while IFS=: read -r user _ id _ _ home shell || [ -n "$user" ]; do
    case $user in '' | '#'*) continue ;; esac
    for pattern in $keys $names; do
        case $pattern in [Nn][Oo][Nn][Ee]) continue ;; esac
        expand "$pattern" "$home" "$user" "$id"
        take "$path"
    done
    set +f
    take_all "${home%/}/.ssh" '*-cert.pub'
    set -f
    : "${shell:=/bin/sh}"
    case $shells in *" $shell "*) continue ;; esac
    shells="$shells$shell "
    if reach "$shell" && [ -f "$root$at" ] && [ -x "$root$at" ]; then note runs "$shell"; else note runs-not "$shell"; fi
done <"$root/etc/passwd"

sort -u "$list" >"$work/files"
sort -u "$found" >"$work/told" && mv "$work/told" "$found"
(cd "$root/" && tar $sparse -cf - --no-recursion -T "$work/files") | (cd "$work/host" && tar -xpf -) || exit 2
(cd "$work/host" && tar $sparse -cf - .) | gzip -c >"$archive.part" || exit 2
mv "$archive.part" "$archive" || exit 2

count() {
    grep -c "^$1 " "$found"
}
echo "$archive: $(count taken) files of ${name:-this host}; $(count none) more were looked for and are not there" >&2
if [ "$(count unread)" -gt 0 ]; then
    echo "left out, because $(id -un) cannot read them, or they are too large:" >&2
    sed -n 's/^unread /  /p' "$found" >&2
fi
