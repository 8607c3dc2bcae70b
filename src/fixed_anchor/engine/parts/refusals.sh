# --- what is refused before anything is touched ---------------------------------------
# The state folder must outlive a power cut, belong to whoever runs this, and be named in the boot unit.
check_home() {
    case $dir in *[[:space:]]*) die 1 "$dir has a blank in its path, which no boot unit can name; nothing was changed" ;; esac
    check_safe "$dir"
    [ -f "$dir/boot-unit" ] || return 0
    case $(stat -f -c %T "$dir" 2>/dev/null) in
    tmpfs | ramfs) die 1 "$dir lies in memory, and would be gone after a power cut; nothing was changed" ;;
    esac
}
# check_safe FOLDER: whoever may rename one of the folders above could lay another engine there, which root runs at boot.
check_safe() {
    above=$1 me=$(id -u)
    while :; do
        what="the engine in $1 could be replaced by others; nothing was changed. Correct that folder as root, or name another state folder"
        [ ! -L "$above" ] || die 4 "$above is a symbolic link: $what"
        # shellcheck disable=SC2012  # owner and mode are wanted, the owner as a number
        said=$(ls -nd "$above/." | { read -r mode _ uid _; echo "$mode $uid"; })
        mode=${said% *} owner=${said##* }
        [ "$owner" = 0 ] || [ "$owner" = "$me" ] || die 4 "$above belongs to somebody else ($owner): $what"
        # In a folder with the sticky bit nobody renames what is another's.
        case $mode in
        d????????[tT]*) ;;
        d????w* | d???????w*) die 4 "$above can be written by others ($mode): $what" ;;
        esac
        [ "$above" != / ] || return 0
        above=${above%/*} above=${above:-/}
    done
}
# A file that is mounted by itself cannot be replaced by a rename.
check_mounted() {
    while read -r _ _ _ _ point _; do
        [ "$point" != "$1" ] || die 1 "$1 is mounted by itself (see findmnt), and cannot be replaced; nothing was changed"
    done </proc/self/mountinfo
}
# All that a rollback needs, and the folders that it lies in.
on_disk() {
    limited 30 sync -f "$dir" || limited 30 sync || die 1 "the disk of $dir does not take the saved copies; nothing was changed"
}
check_file() {
    case $6 in [!/]* | */../* | */./* | *//*) die 2 "the manifest names $6, which is no plain path" ;; esac
    [ "$(readlink "$6")" = "$(value "was-link/$1")" ] ||
        die 1 "$6 is a symbolic link that the draft did not see, or no longer one; nothing was changed"
    above=${6%/*}
    while [ -n "$above" ]; do
        [ ! -L "$above" ] || die 1 "$above, above $6, is a symbolic link; nothing was changed"
        above=${above%/*}
    done
    case $2 in
    create)
        [ ! -e "$6" ] || die 1 "$6 has appeared since the draft was made; nothing was changed"
        above=${6%/*}
        # One missing folder is made with its file, and goes again with it.
        [ -d "$above" ] || { [ -w "${above%/*}" ] && return 0; } ||
            die 1 "the folder of $6 is not there, and cannot be made; nothing was changed"
        ;;
    replace | delete | link)
        [ ! -f "$dir/was/$1" ] || cmp -s "$dir/was/$1" "$6" || die 1 "$6 is not what the draft was made from; nothing was changed"
        [ -w "$6" ] || [ -L "$6" ] || die 4 "$6 cannot be written: it is read-only, or immutable; nothing was changed"
        ;;
    *) die 2 "the manifest has a line of kind $2" ;;
    esac
    # Really tried, with the time it has already: not every shell asks the file system whether root may.
    check_mounted "$6"
    touch -c -r "${6%/*}" "${6%/*}" 2>/dev/null || die 4 "the folder of $6 cannot be written; nothing was changed"
    check_room "${6%/*}"
}
# check_room FOLDER: a change is small, but a full disk must not be met in the middle of it.
check_room() {
    left=$(df -Pk "$1" 2>/dev/null | { read -r _; read -r _ _ _ left _; echo "${left:-}"; })
    [ "${left:-1024}" -ge 1024 ] || die 1 "only $left KiB are left on the disk of $1; nothing was changed"
}
# Every command of the stack that the change and its way back need must be there.
check_commands() {
    for step in "$dir"/steps/leave/* "$dir"/steps/activate/* "$dir"/steps/drop/* "$dir"/steps/unload/* "$dir"/steps/reload/*; do
        [ -f "$step" ] || continue
        IFS= read -r first <"$step"
        command -v "$first" >/dev/null || die 1 "the command $first is not there; nothing was changed"
    done
}
# With systemd a guard needs a unit of its own: in the control group of a session or a service it may end with that.
check_guard_outlives() {
    if [ "$(value launch)" = systemd ]; then
        limited 10 systemd-run --quiet --collect --unit="fixed-anchor-try-$name-$$" /bin/true && return 0
        log "systemd gives no transient unit"
    fi
    while IFS=: read -r _ controllers group; do
        case $controllers in '' | name=systemd) [ "$(value launch)" = systemd ] || continue ;; name=elogind) group=elogind$group ;; *) continue ;; esac
        case $group in
        */session-*.scope | elogind/?*)
            ends_with_session "$group" && die 1 "the guard would end with this session: systemd gives no unit for it (see systemd-run), and logind.conf says KillUserProcesses=yes; nothing was changed"
            ;;
        *.service | *.service/*)
            unit=${group%.service*}.service unit=${unit##*/}
            case $(systemctl show -p KillMode --value "$unit" 2>/dev/null) in
            process | none) ;;
            *) die 1 "the guard would end with $unit, in which this runs: systemd gives no unit for it (see systemd-run); nothing was changed" ;;
            esac
            ;;
        esac
    done </proc/self/cgroup
}
# ends_with_session GROUP: whether whoever manages sessions ends the processes of one; logind.conf(5).
ends_with_session() {
    case $(logind KillUserProcesses) in no | false | off | 0) return 1 ;; esac
    session_of=${1#*/user-} session_of=${session_of%%.*}
    person=$(id -nu "$session_of" 2>/dev/null || echo "$session_of")
    only=$(logind KillOnlyUsers) spared=$(logind KillExcludeUsers)
    case " $only " in "  " | *" $person "*) ;; *) return 1 ;; esac
    case " ${spared:-root} " in *" $person "*) return 1 ;; esac
}
# logind KEY: as it says itself; else as its files do; else as they tell, behind a mark, that it was built.
logind() {
    said=$(loginctl show-session -p "$1" 2>/dev/null) || said=
    for mark in '' '#'; do
        [ -z "$said" ] || break
        said=$(
            for folder in /usr/lib/systemd /lib/systemd /run/systemd /etc/systemd /etc/elogind; do
                cat "$folder/logind.conf" "$folder"/logind.conf.d/*.conf 2>/dev/null
            done | sed -n "s/^[[:space:]]*$mark$1[[:space:]]*=[[:space:]]*//p" | sed -n '$p'
        )
    done
    echo "${said#*=}"
}
