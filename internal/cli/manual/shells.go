package manual

// Shell is one that can complete.
type Shell struct {
	Name, Title string
	// Script is what it is given, Install how.
	Script, Install string
}

// Shells are those that can. Words reach the program as they are: none is evaluated by a shell.
var Shells = []Shell{
	{"bash", "bash", bash, "revlet completion bash > ~/.local/share/bash-completion/completions/revlet"},
	{"zsh", "zsh", zsh, "revlet completion zsh > ~/.zfunc/_revlet, with ~/.zfunc in fpath before compinit"},
	{"fish", "fish", fish, "revlet completion fish > ~/.config/fish/completions/revlet.fish"},
	{"powershell", "PowerShell", powershell, "revlet completion powershell >> $PROFILE"},
}

const bash = `# Completion of revlet for bash.
_revlet() {
	local cur words=() cword line
	if declare -F _get_comp_words_by_ref >/dev/null; then
		_get_comp_words_by_ref -n := cur words cword
	else
		cur=${COMP_WORDS[COMP_CWORD]} words=("${COMP_WORDS[@]}") cword=$COMP_CWORD
	fi
	COMPREPLY=()
	while IFS= read -r line; do
		if [[ $line == :files* ]]; then
			compopt -o filenames 2>/dev/null
			local IFS=$'\n'
			COMPREPLY+=($(compgen -f -- "$cur"))
			continue
		fi
		COMPREPLY+=("${line%%$'\t'*}")
	done < <("${words[0]}" completion words "${words[@]:1:cword}" 2>/dev/null)
	if [[ ${#COMPREPLY[@]} -eq 1 && ${COMPREPLY[0]} == *[/=] ]]; then
		compopt -o nospace 2>/dev/null
	fi
	if declare -F __ltrim_colon_completions >/dev/null; then
		__ltrim_colon_completions "$cur"
	fi
}
complete -F _revlet revlet
`

const zsh = `#compdef revlet
# Completion of revlet for zsh.
_revlet() {
	local -a found
	local line word what
	for line in "${(@f)$("${words[1]}" completion words "${(@)words[2,CURRENT]}" 2>/dev/null)}"; do
		word=${line%%$'\t'*} what=${line#*$'\t'}
		if [[ $word == :files ]]; then
			_files
		elif [[ -n $word ]]; then
			found+=("${word//:/\\:}:${what}")
		fi
	done
	(( ${#found} )) && _describe revlet found
}
if [[ ${funcstack[1]} == _revlet ]]; then
	_revlet "$@"
else
	compdef _revlet revlet
fi
`

const fish = `# Completion of revlet for fish.
function __revlet_words
	set -l words (commandline -opc) (commandline -ct)
	for line in ($words[1] completion words $words[2..] 2>/dev/null)
		if string match -q ':files*' -- $line
			__fish_complete_path (commandline -ct)
		else
			echo $line
		end
	end
end
complete -c revlet -f -a '(__revlet_words)'
`

const powershell = `# Completion of revlet for PowerShell.
Register-ArgumentCompleter -Native -CommandName revlet -ScriptBlock {
	param($typed, $line, $cursor)
	$words = @($line.CommandElements | Where-Object { $_.Extent.StartOffset -lt $cursor } | ForEach-Object { $_.Extent.Text })
	if ($typed -eq '') { $words += '' }
	& $words[0] completion words @($words | Select-Object -Skip 1) 2>$null | ForEach-Object {
		$word, $what = $_ -split "` + "`" + `t", 2
		if ($word -ne ':files') {
			if (-not $what) { $what = $word }
			[System.Management.Automation.CompletionResult]::new($word, $word, 'ParameterValue', $what)
		}
	}
}
`
