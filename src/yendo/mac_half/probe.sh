#!/bin/sh
# What lies on a Mac where programs, settings and jobs lie: one line each, tabs between.
# Arguments: the folders to look through. What changes by itself on every Mac is not looked at.
set -u
for folder in "$@"; do
  [ -d "$folder" ] || continue
  /usr/bin/find "$folder" -xdev \
    \( -path '*/Library/Caches' -o -path '*/Library/Logs' -o -path '*/Library/Receipts' -o -path '*/com.apple.*' \
    -o -path '*/Library/Apple' -o -path '*/Library/Updates' -o -name '.DS_Store' -o -name '.localized' \) -prune \
    -o -print0 | /usr/bin/xargs -0 /usr/bin/stat -f '%p	%u	%g	%z	%m	%Y	%N'
done
