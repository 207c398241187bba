# Completion for bash: the program itself says what a word can be.
_moorfield() {
    local line=${COMP_LINE#* } word
    COMPREPLY=()
    while IFS= read -r word; do
        COMPREPLY+=("$(printf '%q' "$word")")
    done < <(moorfield "[suggest:$((COMP_POINT - ${#COMP_WORDS[0]} - 1))]" "$line" 2>/dev/null)
}
complete -o default -F _moorfield moorfield
