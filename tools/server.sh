# Sourced by run and bench: a PostgreSQL server for a demo or a benchmark. docs/fleet.md says how one is set up for a fleet.

# postgresql COMMAND FOLDER...: a command of PostgreSQL on the server in a folder, as a user who may run one.
postgresql() {
    local command=$1 folder=$2 bin as=()
    shift 2
    bin=$(compgen -G '/usr/lib/postgresql/*/bin' | tail -n 1)
    if ((EUID == 0)); then as=(env -C / setpriv --reuid=postgres --regid=postgres --clear-groups); fi
    "${as[@]}" "$bin/$command" -D "$folder/data" "$@" >/dev/null
}

# start_server FOLDER: starts one in an empty folder, over its Unix socket, for everybody.
start_server() {
    chmod 755 "$1"
    ((EUID != 0)) || chown postgres "$1"
    postgresql initdb "$1" -U fleet -A trust -E UTF8 --no-locale
    postgresql pg_ctl "$1" -o "-k $1 -c listen_addresses=" -l "$1/log" -w start
}

# stop_server FOLDER: stops it at once.
stop_server() { postgresql pg_ctl "$1" -m immediate stop; }
