#compdef moorfield
# Completion for zsh: the program itself says what a word can be.
_moorfield() {
    local -a found
    found=("${(@f)$(moorfield "[suggest:$((CURSOR - ${#words[1]} - 1))]" "${BUFFER#* }" 2>/dev/null)}")
    [[ -n $found[1] ]] && compadd -U -- "${found[@]}" || _files
}
_moorfield "$@"
