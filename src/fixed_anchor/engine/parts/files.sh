# --- files: saved, written, rolled back -----------------------------------------------
# Twice: a copy to keep, and the very file beside its place. Rolling that back is a mere rename,
# which needs no room, and brings back owner, access lists and labels whatever `cp` can do.
save_file() {
    [ "$2" != create ] || return 0
    rm -f "${6%/*}/.fixed-anchor.$name.$1.old"
    cp -a "$6" "$dir/saved/$1" && { ln -n "$6" "${6%/*}/.fixed-anchor.$name.$1.old" 2>/dev/null || cp -a "$6" "${6%/*}/.fixed-anchor.$name.$1.old"; }
}
# write_file: the contents in the folder $texts, new or final.
write_file() {
    failed="$6 could not be written"
    beside=${6%/*}/.fixed-anchor.$name.$1
    [ "$texts" = new ] || { [ -f "$dir/final/$1" ] && { keep_aside "$@" || :; }; } || return 0
    rm -f "$beside"
    case $2 in
    delete) rm -f "$6" ;;
    link) ln -s "$(value "new/$1")" "$beside" && mv -f "$beside" "$6" || return 1 ;;
    *)
        [ -d "${6%/*}" ] || { mkdir -m 755 "${6%/*}" && put "made-$1" "${6%/*}"; } || return 1
        # A copy of what is there keeps its owner, labels and access lists.
        if [ -f "$6" ] && [ ! -L "$6" ]; then cp -a "$6" "$beside" || return 1; fi
        { cat "$dir/$texts/$1" >"$beside"; } 2>/dev/null && chmod "$3" "$beside" || return 1
        [ "$(id -u)" != 0 ] || chown "$4:$5" "$beside" || return 1
        # chown may clear mode bits.
        chmod "$3" "$beside" && durable "$beside" && mv -f "$beside" "$6" || return 1
        [ "$2" != create ] || ! command -v restorecon >/dev/null || restorecon "$6" 2>/dev/null || :
        ;;
    esac
    durable "${6%/*}"
    log "written: $2 $6"
}
# What the decision leaves must be on disk: tried again, and said where it cannot be.
write_final() {
    texts=final tries=0
    until each_file write_file; do
        rm -f "$dir/reserve"
        if [ "$((tries += 1))" -ge "$final_tries" ]; then
            log "not every final file could be written; make room or make its folder writable, then copy them by hand:"
            each_file tell_final
            put incomplete yes
            return 1
        fi
        beat
        sleep 1
    done
}
tell_final() { [ ! -f "$dir/final/$1" ] || cmp -s "$6" "$dir/final/$1" || log "  cp $dir/final/$1 $6"; }
# A version of a file that is neither ours nor the saved one is not lost.
keep_aside() {
    { [ -f "$6" ] && [ ! -L "$6" ] && [ -f "$dir/new/$1" ]; } || return 0
    for known in new final saved found; do ! cmp -s "$6" "$dir/$known/$1" || return 0; done
    mkdir -p "$dir/found" && cp -a "$6" "$dir/found/$1" && log "edited by hand since: $6; that version is kept in $dir/found/$1"
}
# Whether the live file is one of the versions that this change knows.
is_known() {
    if [ -L "$6" ]; then
        [ "$(readlink "$6")" = "$(value "new/$1")" ] || [ "$(readlink "$6")" = "$(readlink "$dir/saved/$1" 2>/dev/null)" ]
    elif [ ! -e "$6" ]; then
        [ "$2" = create ] || [ "$2" = delete ]
    else
        for known in new final saved; do ! cmp -s "$6" "$dir/$known/$1" || return 0; done
        return 1
    fi
}
# After a change that was stuck somebody may have repaired the host by hand: what they made stays.
restore_known() {
    is_known "$@" || { log "left alone, since it is of neither version: $6"; return 1; }
    restore_file "$@"
}
restore_file() {
    beside=${6%/*}/.fixed-anchor.$name.$1
    keep_aside "$@" || :
    rm -f "$beside"
    if [ "$2" = create ]; then
        rm -f "$6" || return 1
        [ ! -f "$dir/made-$1" ] || rmdir "$(value "made-$1")" 2>/dev/null || :
    # Where both names lead to one file, nothing was written yet, and mv has nothing to do.
    elif [ -e "$beside.old" ] || [ -L "$beside.old" ]; then
        { mv -f "$beside.old" "$6" 2>/dev/null || cmp -s "$beside.old" "$6"; } || return 1
        rm -f "$beside.old" || log "could not be removed: $beside.old"
    elif [ -L "$dir/saved/$1" ] || ! cmp -s "$6" "$dir/saved/$1"; then
        cp -a "$dir/saved/$1" "$beside" && durable "$beside" && mv -f "$beside" "$6" || return 1
    fi
    [ ! -d "${6%/*}" ] || durable "${6%/*}"
    log "rolled back: $6"
}
tidy_file() { rm -f "${6%/*}/.fixed-anchor.$name.$1" "${6%/*}/.fixed-anchor.$name.$1.old"; }

