#!/bin/sh
# Runs the agent of this host as the user rockrose, and again whenever it ends. Start it with the host: from its init scripts, or by a line of the crontab (@reboot).
child=
trap '[ -z "$child" ] || kill "$child" 2>/dev/null; wait; exit 0' TERM INT
while :; do
  su -s /bin/sh rockrose -c 'exec @PROGRAM@ agent run' &
  child=$!
  wait "$child"
  child=
  sleep 5
done
