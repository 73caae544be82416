# Reads what this computer's kernel publishes about itself, and nothing else, and writes it as text:
# processor times, memory, disks, links, sensors; of each process its name, owner, program, command line
# (words that look like a password, token or key are left out), its use and that of its threads, and which
# sockets it has open. At the end also what was installed and set up lately: lines of package managers' logs,
# and times of files that say what runs and how.
# It reads no documents, no contents of anybody's files, no environment, no serial numbers. It changes
# nothing on the computer. Needs a POSIX shell, grep, sed, tr, ls, df and sleep, and for
# what changed tail and stat; those of busybox will do.
#
# Set before 'collect' is called: MARK (a word that nobody can guess), TICKS, EVERY (hundredths of a second),
# and the lists of what is read, by when: ONCE, EACH_TICK and so on.
LC_ALL=C
export LC_ALL
# only directories of the administrator: an empty or relative part would be the current directory
PATH=/usr/sbin:/usr/bin:/sbin:/bin:/usr/local/sbin:/usr/local/bin:/run/current-system/sw/bin
export PATH
# a root that is as bare as can be has no devices either
if [ -e /dev/null ]; then
  NIL=/dev/null
  exec 2>/dev/null
else
  NIL=/proc/version
  exec 2>&-
fi
# a process's line: number, name (which may hold a bracket), state, ten figures, its time, that in the
# kernel, four figures, threads; and one of a process with one thread, which is found faster
STAT='^\([0-9]*\) (.*) [A-Z] \([-0-9]* \)\{10\}\([0-9]*\) \([0-9]*\) \([-0-9]* \)\{4\}\([0-9]*\) .*'
ALONE=') [A-Z] \([-0-9]* \)\{16\}1 '
SEP=$(printf '\001')
WHOLE=
[ "$(printf 'a\000b\n' | grep -a b | tr '\000' .)" != a.b ] || WHOLE=yes

# line ends in names are hidden by -q; an ls that does not know it hides them always
Q=q
[ -n "$(ls -dq /)" ] || Q=

say() { printf '@%s %s\n' "$MARK" "$*"; }

# every line gets the name of its file in front, so that no content can be taken for another file
show() { grep -saH '' "$@" <$NIL; }
# of long files those lines that are read
lines() { grep -saHF -e Uid: -e Gid: -e VmSize: -e VmSwap: -e Cpus_allowed_list: -e 'Max open files' "$@" <$NIL; }

now() {
  read -r up _ </proc/uptime
  at=${up%.*}${up#*.}
}

once() {
  # shellcheck disable=SC2086 # a list of patterns, as all that follow
  show $ONCE
  for link in /sys/class/net/*; do
    [ -e "$link/device" ] && printf 'dir:%s/device\n' "$link"
    [ -e "$link/wireless" ] && printf 'dir:%s/wireless\n' "$link"
  done
  # of sensors those of drives are left alone: reading may wake a drive
  SENSED=
  for chip in /sys/class/hwmon/hwmon*; do
    read -r name <"$chip/name" || continue
    [ "$name" = drivetemp ] || SENSED="$SENSED $chip/*_input"
  done
  # groups whose processor time is limited
  LIMITED=
  for file in /sys/fs/cgroup/*/cpu.max /sys/fs/cgroup/*/*/cpu.max /sys/fs/cgroup/*/*/*/*/cpu.max; do
    read -r quota _ <"$file" || continue
    case $file in *[!A-Za-z0-9/._@:\\-]*) continue ;; esac
    [ "$quota" = max ] || LIMITED="$LIMITED $file ${file%max}stat ${file%max}pressure"
  done
}

# sources read seldom: sockets and their owners, batteries, waiting calls, details of processes
seldom() {
  # shellcheck disable=SC2086
  show $SELDOM
  # shellcheck disable=SC2086
  lines $SELDOM_LINES
  # a file without a line is one all the same
  [ -r /proc/locks ] && { read -r line </proc/locks || printf 'none:/proc/locks\n'; }
  ls -ln$Q /proc/[0-9]*/fd <$NIL | sed -n -e '/^\/proc/p' -e '/ -> /p' | sed 's/^/fd:/'
  df -Pk <$NIL | sed 's/^/df:/'
  df -Pi <$NIL | sed 's/^/di:/'
}

# asked at the end only: if neighbours answer; recent changes, by the lines of logs that name packages and the program that asked for them
# alone; of files in the administrator's directories when they were changed
changed() {
  # shellcheck disable=SC2086
  show $AT_END
  for log in $LOGS; do
    show_matching ' (install|upgrade|remove|purge) | \[ALPM\] (inst|upgr|downgr|remov)|^[^|]+\|(install|remove) *\||'\
' (Installed|Upgraded?|Erase|Removed): ' "$log.1" "$log"
  done
  # shellcheck disable=SC2086
  show_matching '^(Start-Date|End-Date|Requested-By|Commandline): ' $ORDERS |
    sed 's/\(:Commandline: [^ ]*\).*/\1/'
  stat -Lc 'at:%Y:%n' /etc/systemd/system/* /etc/systemd/user/* /usr/local/lib/systemd/system/* \
    /etc/xdg/autostart/* /etc/cron.[dhw]*/* /etc/crontab /var/spool/cron/* /var/spool/cron/crontabs/* \
    /etc/sysctl.conf /etc/sysctl.d/* /etc/modprobe.d/* /etc/modules-load.d/* /etc/udev/rules.d/* /etc/fstab \
    /etc/environment /etc/profile.d/* /etc/passwd /etc/group /boot/* /var/lib/snapd/snaps/* \
    /var/lib/flatpak/app/* <$NIL
}

show_matching() {
  pattern=$1
  shift
  grep -saHE "$pattern" "$@" <$NIL | tail -n 400
}

# of processes with several threads, those that used a tenth of a processor since this was asked last:
# the threads of the busiest are read one by one, 1024 in all
busiest() {
  now
  span=$((at - asked)) asked=$at most='' more='' some='' earlier=$counted counted=' '
  # number, time for itself and in the kernel (hundredths of a second), threads
  for word in $(sed -n -e "/$ALONE/d" -e "s/$STAT/\1:\3:\4:\6/p" /proc/[0-9]*/stat <$NIL); do
    pid=${word%%:*} threads=${word##*:} used=${word%:*}
    used=${used#*:}
    used=$((${used%:*} + ${used#*:}))
    eval "before=\${used_$pid:-$used} used_$pid=$used"
    counted="$counted$pid "
    rose=$((used - before))
    if [ "$((rose * 10))" -lt "$span" ]; then
      continue
    elif [ "$((rose * 4))" -gt "$((span * 3))" ]; then
      most="$most $pid:$threads"
    elif [ "$((rose * 4))" -gt "$span" ]; then
      more="$more $pid:$threads"
    else
      some="$some $pid:$threads"
    fi
  done
  # nothing is kept of those that are gone
  for pid in $earlier; do
    case $counted in
      *" $pid "*) ;;
      *) unset "used_$pid" ;;
    esac
  done
  room=1024 named=$watched watched=' ' THREADS=''
  for word in $most $more $some; do
    pid=${word%:*} threads=${word#*:}
    [ "$threads" -le "$room" ] || continue
    room=$((room - threads)) watched="$watched$pid " THREADS="$THREADS /proc/$pid/task/[0-9]*/schedstat"
    case $named in
      *" $pid "*) ;;
      # shellcheck disable=SC2086 # a pattern
      *) show /proc/$pid/task/[0-9]*/comm /proc/$pid/task/[0-9]*/schedstat ;;
    esac
  done
}

# constant facts of new processes
facts() {
  [ -n "$new" ] || return
  # shellcheck disable=SC2086 # names of directories in /proc have no blanks
  set -- $new
  # at first everybody is new: one pattern, as a shell is slow at building long lines
  [ "$n" -ne 0 ] || set -- '/proc/[0-9]*'
  long= short= exes=
  for p; do
    long="$long $p/status $p/limits" short="$short $p/cgroup $p/loginuid" exes="$exes $p/exe"
  done
  # shellcheck disable=SC2086
  lines $long
  # shellcheck disable=SC2086
  show $short
  # shellcheck disable=SC2086
  ls -ldn$Q $exes <$NIL | sed 's/^/exe:/'
  # a value with a line end in it goes on in the next line, up to where its argument ends
  commands "$@" | sed -e '/^cmd:/!s/^/cmd:/' -e ':mask' \
    -e "s/\([Pp][Aa][Ss][Ss][A-Za-z_-]*[=: $SEP]\)[^$SEP]*/\1[masked]/g" \
    -e "s/\([Tt][Oo][Kk][Ee][Nn][=: $SEP]\)[^$SEP]*/\1[masked]/g" \
    -e "s/\([Ss][Ee][Cc][Rr][Ee][Tt][A-Za-z_-]*[=: $SEP]\)[^$SEP]*/\1[masked]/g" \
    -e "s/\([Kk][Ee][Yy][=:]\)[^$SEP]*/\1[masked]/g" \
    -e "s/\([-_][Kk][Ee][Yy][ $SEP]\)[^$SEP]*/\1[masked]/g" \
    -e "s/\([Aa][Pp][Ii][Kk][Ee][Yy][ $SEP]\)[^$SEP]*/\1[masked]/g" \
    -e "s/\([Aa][Uu][Tt][Hh][Oo][Rr][Ii][Zz][A-Za-z]*[=: $SEP]\)[^$SEP]*/\1[masked]/g" \
    -e "s/\([Cc][Rr][Ee][Dd][Ee][Nn][Tt][A-Za-z_-]*[=: $SEP]\)[^$SEP]*/\1[masked]/g" \
    -e "s/\(:\/\/[^:\/$SEP]*:\)[^@$SEP]*@/\1[masked]@/g" \
    -e '/\[masked\]$/!b' -e '$!N' \
    -e "s/^cmd:\(\/proc\/[0-9]*\/cmdline:\)\(.*\)\n\1[^$SEP]*/cmd:\1\2/" -e 'tmask' -e 'P' -e 'D'
}

# command lines: their words end in a byte that not every grep lets through
commands() {
  if [ -n "$WHOLE" ]; then
    files=
    for p; do files="$files $p/cmdline"; done
    # shellcheck disable=SC2086
    show $files | tr '\000' '\001'
    return
  fi
  # shellcheck disable=SC2048
  for p in $*; do
    line=
    read -r line <"$p/cmdline" || [ -n "$line" ] || continue
    printf '%s/cmdline:' "$p"
    tr '\000\n' '\001\002' <"$p/cmdline"
    printf '\n'
  done
}

# all processes, and the new ones
look() {
  set -- /proc/[0-9]*
  here=$* new=
  # on most ticks nobody came or went
  [ "$here" != "$listed" ] || return
  for p; do
    case " $listed " in
      *" $p "*) ;;
      *) new="$new $p" ;;
    esac
  done
  # of each process what is read at every tick; a shell is slow at finding files
  # shellcheck disable=SC2086
  set -- $OF_PROCESSES
  listed=$here EACH=$*
}

collect() {
  say begin 1 $$ "$TICKS" "$EVERY" "$(date +%s)" "$(date +%z)" "$(id -u)"
  once
  n=0 rounds=0 listed='' asked=0 counted='' watched='' THREADS=
  now
  due=$at
  while :; do
    say tick "$n" "$up"
    look
    # how much memory a process shares hardly changes
    sizes=
    [ $((n % 5)) -ne 0 ] && [ "$n" -ne "$TICKS" ] || sizes=$SIZES
    # shellcheck disable=SC2086 # lists of patterns
    show $EACH_TICK $SENSED $LIMITED $EACH $sizes $THREADS
    facts
    [ $((rounds % 5)) -gt 0 ] && [ "$rounds" -ne 1 ] || busiest
    rounds=$((rounds + 1))
    if [ $((n % 15)) -eq 0 ] || [ "$n" -eq "$TICKS" ]; then
      seldom
    fi
    [ "$n" -ne "$TICKS" ] || changed
    now
    say end "$n" "$up"
    [ "$n" -lt "$TICKS" ] || break
    n=$((n + 1)) due=$((due + EVERY)) left=$((due - at))
    # a missed tick is skipped: the next one in the future is taken
    while [ "$left" -le 0 ] && [ "$n" -lt "$TICKS" ]; do
      n=$((n + 1)) due=$((due + EVERY)) left=$((due - at))
    done
    if [ "$left" -gt 0 ]; then
      hundredths=$((left % 100))
      [ "$hundredths" -ge 10 ] || hundredths=0$hundredths
      sleep "$((left / 100)).$hundredths" <$NIL || sleep 1 <$NIL
    fi
    now
  done
  say done
}
