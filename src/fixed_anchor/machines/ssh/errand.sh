#!/bin/sh
# The errand of Fixed Anchor: what a host does for a seat that reached it over SSH.
#
#   sh -c "$text" fixed-anchor MARK SESSION TEXT
#
# MARK is a random word: only what follows a line that begins with it is meant, and all else is somebody's profile or
# banner. SESSION is SSH_CONNECTION, which sudo drops. TEXT is this program again, for sudo to run. Requests are lines
# on standard input, and are answered in the form of a collection (collector.sh): each line of contents begins with a
# bar, the last one with a plus where no line end follows. Nothing of a request is ever run as shell source.
# It ends where its standard input ends, and where it has heard nothing from the seat for so many seconds: sshd keeps the
# connection of a seat that is gone, or of an address that is, for hours.
set -u
export LC_ALL=C
PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin${PATH:+:$PATH}
mark=$1 session=$2 text=$3
idle=300
nl='
'
say() { printf '%s\n' "$mark $*"; }
plain() { printf '%s' "$1" | tr '\n' ' '; }

# --- root ---------------------------------------------------------------------------------
# answered: the seat's word, which bears the mark; requests that it sent before it was asked it has to send again.
answered() {
    while IFS= read -r line; do
        case $line in
        "$mark "*) answer=${line#* }; return 0 ;;
        *) early=yes ;;
        esac
    done
    return 1
}
# Becomes root with sudo; where that takes a password the seat is asked for it. Where it cannot be, $why says why.
become_root() {
    command -v sudo >/dev/null 2>&1 || { why="there is no sudo"; return 0; }
    why=$(sudo -n /bin/sh -c : </dev/null 2>&1) &&
        exec sudo -n /bin/sh -c "$text" fixed-anchor "$mark" "$session" "$text"
    case $why in *password*) ;; *) return 0 ;; esac
    # A command of its own would show the password in the list of processes.
    case $(command -v printf) in printf) ;; *) why="its shell has no printf of its own to pass a password on"; return 0 ;; esac
    while :; do
        say "password $(plain "$why")"
        { answered && [ "$answer" = password ] && IFS= read -r secret; } || return 0
        # Tried alone first: behind a wrong one sudo would take what follows for more guesses.
        if why=$(printf '%s\n' "$secret" | sudo -k -S -p '' /bin/sh -c : 2>&1); then
            secret=''
            # It goes from the seat to sudo itself: nothing stands between the seat and the errand of root.
            say "again password"
            exec sudo -k -S -p '' /bin/sh -c "$text" fixed-anchor "$mark" "$session" "$text"
        fi
        secret=''
    done
}

# --- reading ------------------------------------------------------------------------------
contents() {
    while IFS= read -r line; do printf '|%s\n' "$line"; done
    [ -z "$line" ] || printf '+%s\n' "$line"
}
# Long files by one program: a shell reads byte by byte. Whether the last line ends is not seen there.
long_contents() {
    sed 's/^/|/' "$1"
    [ -z "$(tail -c 1 "$1")" ] || printf '\n-\n'
}
# want PATH: notes a file; all of them are told together.
want() {
    if [ -L "$1" ] && [ "$(readlink "$1")" = /dev/null ]; then
        # An empty file that hides others of its name.
        case $1 in */systemd/*) echo "file 644 0 0 $1" ;; esac
    elif [ -f "$1" ]; then
        if [ -r "$1" ]; then wanted=$wanted$1$nl; else echo "denied $1"; fi
    elif [ -d "${1%/*}" ] && [ ! -x "${1%/*}" ]; then
        echo "denied $1"
    fi
}
# match FUNCTION PATTERN: for each path that matches; a hidden name matches no star.
match() {
    folder=${2%/*} function=$1
    case $folder in *[*?[]*) ;; *) [ ! -d "$folder" ] || [ -r "$folder" ] || echo "denied $2" ;; esac
    IFS=$nl
    # shellcheck disable=SC2086  # a pattern, with blanks perhaps
    set -- $2
    unset IFS
    for path in "$@"; do "$function" "$path"; done
}
tell_name() { [ ! -f "$1" ] || echo "name $1"; }
# One stat(1) for all: one for each would take longer than the files do.
tell_files() {
    IFS=$nl
    set -f
    # shellcheck disable=SC2086  # one path a line
    set -- $wanted
    set +f
    unset IFS
    wanted=''
    [ $# = 0 ] || stat -L -c '%a %u %g %s %n' "$@" 2>/dev/null | while IFS=' ' read -r mode uid gid size path; do
        if [ "$size" -gt 16777216 ]; then echo "large $size $path"; continue; fi
        echo "file $mode $uid $gid $path"
        # A shell reads byte by byte, for which settings of the kernel have but the first one.
        # shellcheck disable=SC2002
        case $path in
        /proc/*) cat "$path" | contents ;;
        *) if [ "$size" -gt 8192 ]; then long_contents "$path"; else contents <"$path"; fi ;;
        esac
    done
}
folders() {
    [ ! -d "$1" ] || [ -r "$1" ] || { echo "denied $1"; return 0; }
    for path in "$1"/* "$1"/.[!.]*; do
        [ ! -d "$path" ] || [ -L "$path" ] || echo "folder ${path##*/}"
    done
}

# --- doing --------------------------------------------------------------------------------
# run SECONDS COMMAND...: the error output comes back first, then a marked line with the status, then the output.
timeout -k 1 5 true 2>/dev/null && limit=yes || limit=''
run() {
    seconds=$1
    shift
    said=$(
        {
            if command -v "$1" >/dev/null 2>&1; then
                [ -z "$limit" ] || set -- timeout -k 2 "$seconds" "$@"
                out=$("$@" 2>&3 3>&- </dev/null)
                status=$?
            else
                out='' status=127
                echo "$1: not found" >&3
            fi
            printf '\n%s %s\n%s\n' "$mark" "$status" "$out"
        } 3>&1
    )
    echo ran
    printf '%s\n' "$said" | sed 's/^/|/'
}
# lines: the contents that belong to a request, up to a line with a dot; fails where the connection ends before.
lines() {
    while IFS= read -r line; do
        case $line in
        .) return 0 ;;
        "|"*) printf '%s\n' "${line#|}" ;;
        "+"*) printf '%s' "${line#+}" ;;
        esac
    done
    return 1
}
# Written beside, synced and renamed; what was cut short on the way, or did not fit, is not renamed.
put() {
    mode=$1 size=$2 path=$3 beside=${3%/*}/.${3##*/}.$$.new
    if said=$({
        mkdir -p "${path%/*}" && lines >"$beside" && chmod "$mode" "$beside" && written=$(wc -c <"$beside") &&
            { [ "$written" -eq "$size" ] || { echo "only $written of $size bytes could be written"; false; }; } &&
            { sync "$beside" 2>/dev/null || sync; } && mv -f "$beside" "$path"
    } 2>&1); then
        echo "done $path"
    else
        rm -f "$beside" 2>/dev/null
        echo "failed $(plain "$said")"
    fi
}
# A copy of files to try a command on: in a folder for this user alone, that goes when the command has ended.
lay() {
    if [ -n "$copy" ]; then { mkdir -p "$copy${1%/*}" && lines >"$copy$1"; } 2>/dev/null; else lines >/dev/null; fi
}
# try SECONDS COMMAND...: the same as run, where a word that begins with @copy lies in that folder.
try() {
    seconds=$1 left=$#
    shift
    while [ "$left" -gt 1 ]; do
        case $1 in @copy*) set -- "$@" "$copy${1#@copy}" ;; *) set -- "$@" "$1" ;; esac
        shift
        left=$((left - 1))
    done
    [ -n "$copy" ] || set -- sh -c 'echo "there is no room for a copy of the files" >&2; exit 126'
    run "$seconds" "$@"
    no_copy
}
no_copy() {
    [ -z "$copy" ] || rm -rf "$copy"
    copy=''
}
new_folder() {
    if [ -d "$1" ]; then
        echo "there $1"
    elif said=$({ mkdir -p "${1%/*}" && mkdir "$1"; } 2>&1); then
        echo "done $1"
    else
        echo "failed $(plain "$said")"
    fi
}
rename_folder() {
    if said=$({ [ ! -e "$2" ] || { echo "$2 is there already"; false; }; } 2>&1) &&
        said=$({ durable "$1" && mv "$1" "$2" && durable "$2"; } 2>&1); then
        echo "done $2"
    else
        echo "failed $(plain "$said")"
    fi
}
durable() { sync -f "$1" 2>/dev/null || sync; }
# A program for Python has the connection to itself until it ends.
python() {
    program=$(lines) || exit 0
    for interpreter in python3 /usr/libexec/platform-python; do
        command -v "$interpreter" >/dev/null 2>&1 || continue
        say "python"
        "$interpreter" -I -S -c "$program" "$mark"
        say "python-ended $?"
        return 0
    done
    say "no-python"
}

# Ends this shell unless it hears from the seat in time.
watch() {
    (
        trap 'kill "$nap" 2>/dev/null; exit 0' TERM
        left=$idle
        while [ "$left" -gt 0 ]; do
            step=5
            [ "$left" -ge "$step" ] || step=$left
            sleep "$step" &
            nap=$!
            wait "$nap"
            left=$((left - step))
            # Where that shell has ended meanwhile, its number may be somebody else's by now.
            IFS=' ' read -r _ _ _ parent _ </proc/self/stat
            [ "$parent" = $$ ] || exit 0
        done
        kill $$
    ) </dev/null >/dev/null 2>&1 &
    watcher=$!
}
hears() {
    [ -z "$watcher" ] || { kill "$watcher"; wait "$watcher"; } 2>/dev/null
    watcher=''
}

serve() {
    umask 077
    say "name $(cat /proc/sys/kernel/hostname 2>/dev/null || hostname)"
    say "session $session"
    say "why $(plain "$why")"
    # A shell of another system than the machine's own.
    [ -z "${SYSTEMROOT-}${WSL_DISTRO_NAME-}" ] || say "windows"
    say "hello $(id -u)"
    wanted='' copy=''
    watch
    while IFS= read -r request; do
        hears
        rest=${request#* }
        case $request in
        "file "*) want "$rest" ;;
        "glob "*) match want "$rest" ;;
        "names "*) match tell_name "$rest" ;;
        "link "*) [ ! -L "$rest" ] || printf 'link %s\n|%s\n' "$rest" "$(readlink "$rest")" ;;
        "folders "*) folders "$rest" ;;
        "run "*)
            set --
            while [ $# -lt "${rest#* }" ] && IFS= read -r word; do set -- "$@" "${word#?}"; done
            run "${rest% *}" "$@"
            ;;
        copy) copy=$(mktemp -d 2>/dev/null) || copy='' ;;
        "lay "*) lay "$rest" || no_copy ;;
        "try "*)
            set --
            while [ $# -lt "${rest#* }" ] && IFS= read -r word; do set -- "$@" "${word#?}"; done
            try "${rest% *}" "$@"
            ;;
        "put "*) more=${rest#* }; put "${rest%% *}" "${more%% *}" "${more#* }" ;;
        "folder "*) new_folder "$rest" ;;
        "rename "*) IFS= read -r new; rename_folder "$rest" "${new#?}" ;;
        python) python; watch ;;
        "reply "*) tell_files; say "reply $rest"; watch ;;
        esac
    done
    hears
    no_copy
}
why='' early=''
[ "$(id -u)" = 0 ] || become_root
[ -z "$early" ] || say "again"
serve
