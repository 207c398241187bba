# Completion for fish: the program itself says what a word can be; where it says nothing, fish names files.
function __moorfield_suggest
    set -l line (string replace -r '^\S+ ?' '' -- (commandline -cp))
    moorfield "[suggest:"(string length -- "$line")"]" "$line" 2>/dev/null
end
complete -c moorfield -f -n 'test (count (__moorfield_suggest)) -gt 0' -a '(__moorfield_suggest)'
