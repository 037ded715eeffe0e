//! `completions`.

use clap_complete::env::{EnvCompleter, Fish, Zsh};

use super::{Failure, Global, Result, UNTOUCHED};
use crate::complete::VARIABLE;

/// Print what lets a shell complete commands, options and names.
///
/// Names of users, groups, rules, changes and deleted accounts come from the tree
/// that the line is about, at the moment at which they are asked for.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Completions {
    /// The shell.
    #[arg(value_enum, value_name = "bash|zsh|fish")]
    shell: Shell,
}

const EXAMPLES: &str = "Examples:
  copper-nest completions bash > /etc/bash_completion.d/copper-nest
  copper-nest completions zsh > /usr/local/share/zsh/site-functions/_copper-nest
  copper-nest completions fish > ~/.config/fish/completions/copper-nest.fish";

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum Shell {
    Bash,
    Zsh,
    Fish,
}

/// bash breaks words at `=`, so that an option with its value is three of them: they are put
/// together for the question, and taken apart for the answer.
const BASH: &str = r#"
_copper_nest() {
    local IFS=$'\013' i index=0 last=0 space=true prefix=
    local words=("${COMP_WORDS[0]}")
    for ((i = 1; i < ${#COMP_WORDS[@]}; i++)); do
        if [[ ${words[last]} == --* && ( ${COMP_WORDS[i]} == = || ${COMP_WORDS[i - 1]} == = ) ]]; then
            words[last]+=${COMP_WORDS[i]}
        else
            words+=("${COMP_WORDS[i]}")
            last=$((${#words[@]} - 1))
        fi
        if ((i == COMP_CWORD)); then index=$last; fi
    done
    if [[ ${words[index]} == --*=* ]]; then
        prefix=${words[index]%%=*}=
    elif [[ ${COMP_WORDS[COMP_CWORD]} != = ]]; then
        words[index]=$2
    fi
    if compopt +o nospace 2>/dev/null; then space=false; fi
    COMPREPLY=($(
        _CLAP_IFS="$IFS" _CLAP_COMPLETE_INDEX="$index" _CLAP_COMPLETE_COMP_TYPE="$COMP_TYPE" \
            _CLAP_COMPLETE_SPACE="$space" COPPER_NEST_COMPLETE=bash \
            copper-nest -- "${words[@]}"
    ))
    COMPREPLY=("${COMPREPLY[@]#"$prefix"}")
    if [[ $space == false && ${COMPREPLY-} =~ [=/:]$ ]]; then compopt -o nospace; fi
}
complete -o nospace -o bashdefault -o nosort -F _copper_nest copper-nest
"#;

impl Completions {
    /// Runs the command.
    pub fn run(&self, _: &Global) -> Result {
        let shell: &dyn EnvCompleter = match self.shell {
            Shell::Bash => {
                outln!("{}", BASH.trim_end());
                return Ok(0);
            }
            Shell::Zsh => &Zsh,
            Shell::Fish => &Fish,
        };
        let mut script = Vec::new();
        let name = "copper-nest";
        shell.write_registration(VARIABLE, name, name, name, &mut script).map_err(|error| {
            Failure::new(UNTOUCHED, "output", format!("the script can't be made: {error}"))
        })?;
        outln!("{}", String::from_utf8_lossy(&script).trim_end());
        Ok(0)
    }
}
