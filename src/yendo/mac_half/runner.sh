say() {
  printf '%s\n' "yendo: $*"
}

stop() {
  printf '%s\n' "yendo: $*" >&2
  exit 1
}

# The same path on the volume that the package goes onto.
on() {
  case $volume in
    /) printf '%s' "$1" ;;
    *) printf '%s' "${volume%/}$1" ;;
  esac
}

# Whether that volume is the one that runs: only there can programs be asked, jobs loaded, persons found.
here() {
  [ "$volume" = / ]
}

# Who is at the screen; fails where nobody is.
person() {
  owner=$(/usr/bin/stat -f %Su /dev/console 2>/dev/null) || return 1
  case $owner in
    root | loginwindow | _mbsetupuser | '') return 1 ;;
  esac
  printf '%s' "$owner"
}

as_person() {
  who=$(person) || return 1
  number=$(/usr/bin/id -u "$who") || return 1
  /bin/launchctl asuser "$number" /usr/bin/sudo -u "$who" -- "$@"
}

is_running() {
  [ "$(as_person /usr/bin/osascript -e "application id \"$1\" is running" 2>/dev/null)" = true ]
}

# Asks a program to end, and waits so many seconds.
quit_program() {
  here || return 0
  is_running "$1" || return 0
  as_person /usr/bin/osascript -e "tell application id \"$1\" to quit" >/dev/null 2>&1
  left=$2
  while is_running "$1"; do
    [ "$left" -gt 0 ] || stop "$1 is still open: it was asked to end, and nothing was changed"
    /bin/sleep 1
    left=$((left - 1))
  done
  say "$1 has ended"
}

tell_person() {
  here || return 0
  as_person /usr/bin/osascript -e "display notification \"$2\" with title \"$1\"" >/dev/null 2>&1
  return 0
}

# Fails where a part of a path is a link: what lies behind it is somebody else's.
plain_way() {
  part=
  rest=${1#/}
  while [ -n "$rest" ]; do
    part=$part/${rest%%/*}
    case $rest in
      */*) rest=${rest#*/} ;;
      *) return 0 ;;
    esac
    [ ! -L "$part" ] || return 1
  done
}

take_away() {
  target=$(on "$1")
  [ -e "$target" ] || [ -L "$target" ] || return 0
  plain_way "$target" || stop "$target is not removed: a link leads there"
  /bin/rm -rf "$target" || stop "$target could not be removed"
  say "removed $target"
}

# Takes away an older copy of a bundle; another program of the same name is not touched.
make_room() {
  target=$(on "$1")
  [ -e "$target" ] || [ -L "$target" ] || return 0
  found=$(bundle_identifier "$target")
  [ -z "$found" ] || [ "$found" = "$2" ] || stop "$target is another program: $found"
  take_away "$1"
}

# A newer one stays: its own update may have put it there.
not_newer() {
  target=$(on "$1")
  [ "$(bundle_identifier "$target")" = "$2" ] || return 0
  found=$(bundle_version "$target")
  at_least "$3" "${found:-0}" || stop "$target is there in version $found, newer than $3: nothing was changed"
}

# The version of a bundle, from its own list.
bundle_version() {
  /usr/libexec/PlistBuddy -c 'Print :CFBundleShortVersionString' "$1/Contents/Info.plist" 2>/dev/null
}

bundle_identifier() {
  /usr/libexec/PlistBuddy -c 'Print :CFBundleIdentifier' "$1/Contents/Info.plist" 2>/dev/null
}

# Whether the first version is the second or a later one, field by field.
at_least() {
  ours=$1.
  theirs=$2.
  while [ -n "$ours" ] || [ -n "$theirs" ]; do
    one=${ours%%.*}
    two=${theirs%%.*}
    ours=${ours#*.}
    theirs=${theirs#*.}
    one=${one%%[!0-9]*}
    two=${two%%[!0-9]*}
    [ "${one:-0}" -le "${two:-0}" ] || return 0
    [ "${one:-0}" -ge "${two:-0}" ] || return 1
  done
}

load_daemon() {
  here || return 0
  unload_daemon "$1"
  tries=5
  until /bin/launchctl bootstrap system "/Library/LaunchDaemons/$1.plist" 2>/dev/null; do
    tries=$((tries - 1))
    [ "$tries" -gt 0 ] || stop "launchd does not load $1"
    /bin/sleep 1
  done
  say "launchd has loaded $1"
}

unload_daemon() {
  here || return 0
  /bin/launchctl bootout "system/$1" 2>/dev/null
  return 0
}

# An agent of whoever is at the screen; others get it when they log on.
load_agent() {
  here || return 0
  who=$(person) || return 0
  number=$(/usr/bin/id -u "$who") || return 0
  unload_agent "$1"
  /bin/launchctl bootstrap "gui/$number" "/Library/LaunchAgents/$1.plist" 2>/dev/null || say "$1 begins at the next log-on"
}

unload_agent() {
  here || return 0
  who=$(person) || return 0
  number=$(/usr/bin/id -u "$who") || return 0
  /bin/launchctl bootout "gui/$number/$1" 2>/dev/null
  return 0
}

# A value of the machine, through the system's own service: domain, key, value.
set_for_machine() {
  domain=$1
  shift
  /usr/bin/defaults write "$(on "/Library/Preferences/$domain")" "$@" || stop "the setting $1 of $domain was not taken"
  /bin/chmod 644 "$(on "/Library/Preferences/$domain.plist")"
}

unset_for_machine() {
  /usr/bin/defaults delete "$(on "/Library/Preferences/$1")" "$2" 2>/dev/null
  return 0
}

# Everybody who can log on, one a line.
persons() {
  here || return 0
  /usr/bin/dscl . -list /Users UniqueID | while read -r name number; do
    [ "$number" -lt 501 ] || printf '%s\n' "$name"
  done
}

# The same value for each person, and in the template for those to come.
set_for_persons() {
  domain=$1
  shift
  template=$(on '/Library/User Template/Non_localized/Library/Preferences')
  /bin/mkdir -p "$template"
  /usr/bin/defaults write "$template/$domain" "$@" || stop "the setting $1 of $domain was not taken into the template"
  persons | while read -r name; do
    /usr/bin/sudo -u "$name" -- /usr/bin/defaults write "$domain" "$@" || say "the setting $1 of $domain was not taken for $name"
  done
}

unset_for_persons() {
  /usr/bin/defaults delete "$(on "/Library/User Template/Non_localized/Library/Preferences/$1")" "$2" 2>/dev/null
  return 0
}

forget_for_persons() {
  persons | while read -r name; do
    /usr/bin/sudo -u "$name" -- /usr/bin/defaults delete "$1" 2>/dev/null
  done
  return 0
}

install_package() {
  package=$1
  shift
  /usr/sbin/installer -pkg "$package" -target "$volume" "$@" || stop "the vendor's package ${package##*/} failed"
}

# Waits until a path is there, or is gone, for so many seconds.
wait_for() {
  target=$(on "$1")
  left=$3
  until { [ -e "$target" ] && [ "$2" = there ]; } || { [ ! -e "$target" ] && [ "$2" = gone ]; }; do
    [ "$left" -gt 0 ] || stop "$target is not $2 after $3 seconds"
    /bin/sleep 1
    left=$((left - 1))
  done
}

# --- conditions

need_receipt() {
  /usr/sbin/pkgutil --volume "$volume" --pkg-info "$1" >/dev/null 2>&1 || stop "$1 has to be installed before"
}

# A bundle by its identifier, in this version or a later one.
need_bundle() {
  /usr/bin/mdfind "kMDItemCFBundleIdentifier == '$1'" | {
    while IFS= read -r place; do
      at_least "$(bundle_version "$place")" "${2:-0}" && exit 0
    done
    exit 1
  } || stop "$1${2:+ $2} has to be there before"
}

need_running_volume() {
  here || stop "it is for the volume that runs, and this is $volume"
}

need_profile() {
  /usr/bin/profiles list 2>/dev/null | /usr/bin/grep -q -F "profileIdentifier: $1" || stop "the profile $1 has to be there before"
}

need_disk() {
  free=$(/bin/df -Pk "$volume" | /usr/bin/awk 'NR == 2 { print $4 }')
  [ "${free:-0}" -ge "$1" ] || stop "$1 KB have to be free on $volume, and $free are"
}

need_person() {
  person >/dev/null || stop "somebody has to be at the screen"
}

need_nobody() {
  ! person >/dev/null || stop "nobody may be at the screen, and $(person) is"
}

need_mains() {
  case $(/usr/bin/pmset -g batt) in
    *"'AC Power'"*) ;;
    *) stop 'the machine runs on its battery' ;;
  esac
}

# --- taking away what was installed

# The files or folders of a receipt, each with its whole path on this computer, in the order of their names. The
# folders that all of it lies in are in no list.
paths_of() {
  location=$(/usr/sbin/pkgutil --volume "$volume" --pkg-info "$1" | /usr/bin/sed -n 's/^location: *//p')
  case $location in
    '' | /) location= ;;
    *) location=/${location#/} ;;
  esac
  top=$(on "${location%/}/")
  {
    /usr/sbin/pkgutil --volume "$volume" --only-"$2" --files "$1" | /usr/bin/sed "s|^|${top%/}/|"
    while [ "$2" = dirs ] && [ -n "$location" ]; do
      printf '%s\n' "$(on "$location")"
      location=${location%/*}
    done
  } | LC_ALL=C /usr/bin/sort -u
}

# What receipts of others have, so that none of it is taken from them.
others_have() {
  /usr/sbin/pkgutil --volume "$volume" --pkgs | while read -r other; do
    case " $ours " in
      *" $other "*) ;;
      *) paths_of "$other" files ;;
    esac
  done | LC_ALL=C /usr/bin/sort -u >"$work/others"
}

# Which of the files that people may change are not as they were laid.
find_changed() {
  top=$(on /)
  /usr/bin/sed "s|  /|  ${top%/}/|" "$work/known" | LC_ALL=C /usr/bin/sort >"$work/was"
  /usr/bin/sed 's/^[0-9a-f]*  //' "$work/was" | while IFS= read -r target; do
    [ ! -f "$target" ] || printf '%s\n' "$target"
  done >"$work/there"
  if [ -s "$work/there" ]; then
    /usr/bin/tr '\n' '\000' <"$work/there" | /usr/bin/xargs -0 /usr/bin/shasum -a 256 | LC_ALL=C /usr/bin/sort >"$work/now"
    LC_ALL=C /usr/bin/comm -13 "$work/was" "$work/now" | /usr/bin/sed 's/^[0-9a-f]*  //' | LC_ALL=C /usr/bin/sort >"$work/changed"
  fi
  while IFS= read -r target; do
    say "kept $target: somebody changed it"
  done <"$work/changed"
}

# Everything of a receipt that no other one has and nobody changed; then the folders that are empty.
take_receipt() {
  /usr/sbin/pkgutil --volume "$volume" --pkg-info "$1" >/dev/null 2>&1 || return 0
  paths_of "$1" files | LC_ALL=C /usr/bin/comm -23 - "$work/others" | LC_ALL=C /usr/bin/comm -23 - "$work/changed" >"$work/own"
  while IFS= read -r target; do
    if [ -e "$target" ] || [ -L "$target" ]; then
      ! plain_way "$target" || printf '%s\n' "$target"
    fi
  done <"$work/own" >"$work/going"
  [ ! -s "$work/going" ] || /usr/bin/tr '\n' '\000' <"$work/going" | /usr/bin/xargs -0 /bin/rm -f
  paths_of "$1" dirs | LC_ALL=C /usr/bin/comm -23 - "$work/system" | LC_ALL=C /usr/bin/sort -r >"$work/going"
  [ ! -s "$work/going" ] || /usr/bin/tr '\n' '\000' <"$work/going" | /usr/bin/xargs -0 /bin/rmdir 2>/dev/null
  /usr/sbin/pkgutil --volume "$volume" --forget "$1" >/dev/null
}

# A bundle with what the program made in it since, unless another receipt has a part of it.
take_bundle() {
  target=$(on "$1")
  [ -d "$target" ] || return 0
  plain_way "$target" || return 0
  ! /usr/bin/grep -q -F -e "$target/" "$work/others" || return 0
  /bin/rm -rf "$target"
}

# What the program made by itself, unless another receipt has a part of it. A job among it is ended first.
take_made() {
  target=$(on "$1")
  [ -e "$target" ] || [ -L "$target" ] || return 0
  plain_way "$target" || return 0
  ! /usr/bin/grep -q -x -F -e "$target" "$work/others" && ! /usr/bin/grep -q -F -e "$target/" "$work/others" || return 0
  case $1 in
    /Library/LaunchDaemons/*.plist) unload_daemon "$(label_of "$target")" ;;
    /Library/LaunchAgents/*.plist) unload_agent "$(label_of "$target")" ;;
  esac
  /bin/rm -rf "$target"
  say "removed $target, which the program had made"
}

label_of() {
  /usr/libexec/PlistBuddy -c 'Print :Label' "$1" 2>/dev/null
}

# --- whether it is there

has_receipt() {
  found=$(/usr/sbin/pkgutil --volume "$volume" --pkg-info "$1" 2>/dev/null | /usr/bin/sed -n 's/^version: *//p')
  [ -n "$found" ] && at_least "$found" "${2:-0}"
}

# Where it was put, or wherever somebody moved it: identifier, least version, path, whether it may be anywhere, who
# has to have signed it, whether its files have to be what was sealed.
has_bundle() {
  is_bundle "$(on "$3")" "$1" "$2" "$5" "$6" && return 0
  [ -n "$4" ] && here || return 1
  /usr/bin/mdfind "kMDItemCFBundleIdentifier == '$1'" | {
    while IFS= read -r place; do
      is_bundle "$place" "$1" "$2" "$5" "$6" && exit 0
    done
    exit 1
  }
}

is_bundle() {
  [ "$(bundle_identifier "$1")" = "$2" ] && at_least "$(bundle_version "$1")" "${3:-0}" || return 1
  program=$(/usr/libexec/PlistBuddy -c 'Print :CFBundleExecutable' "$1/Contents/Info.plist" 2>/dev/null)
  [ -z "$program" ] || [ -x "$1/Contents/MacOS/$program" ] || return 1
  [ -z "$5" ] || /usr/bin/codesign --verify --deep --strict "$1" 2>/dev/null || return 1
  [ -z "$4" ] || /usr/bin/codesign --verify -R="anchor apple generic and certificate leaf[subject.OU] = \"$4\"" "$1" 2>/dev/null
}

has_file() {
  target=$(on "$1")
  [ -f "$target" ] || return 1
  [ -z "$2" ] || [ "$(/usr/bin/shasum -a 256 "$target" | /usr/bin/cut -d ' ' -f 1)" = "$2" ]
}

# Every file as it was laid: the digest of a list of digests. The names stand on standard input, from the root.
has_all() {
  found=$(cd "$(on /)" && /usr/bin/tr '\n' '\000' | /usr/bin/xargs -0 /usr/bin/shasum -a 256 2>/dev/null | /usr/bin/shasum -a 256)
  [ "${found%% *}" = "$1" ]
}

has_setting() {
  [ "$(/usr/bin/defaults read "$(on "/Library/Preferences/$1")" "$2" 2>/dev/null)" = "$3" ]
}

# Loaded; on a volume that does not run, there to be loaded.
has_daemon() {
  if here; then
    /bin/launchctl print "system/$1" >/dev/null 2>&1
  else
    [ -f "$(on "/Library/LaunchDaemons/$1.plist")" ]
  fi
}
