using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>The completions of the packages, in the shells that they are for.</summary>
public sealed class CompletionShellTests : CliTest
{
    private Dictionary<string, string> WithProgram => new(Surroundings)
    {
        ["PATH"] = $"{Path.GetDirectoryName(ProgramPath)}:{Environment.GetEnvironmentVariable("PATH")}",
        ["MOORFIELD_COMPLETION_MS"] = "20000",
        ["TERM"] = "xterm",
    };

    private static string Script(string name) => Path.Combine(Sources, "packaging", name);

    private string[] Bash(string line)
    {
        var outcome = Tool.Run("bash", ["--norc", "-c", """
            source "$1"; COMP_LINE=$2; COMP_POINT=${#2}; read -ra COMP_WORDS <<<"$2"; COMP_CWORD=$((${#COMP_WORDS[@]} - 1))
            _moorfield; printf '%s\n' "${COMPREPLY[@]}"
            """, "bash", Script("moorfield.bash"), line], WithProgram, null);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        return outcome.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);
    }

    private string[] Fish(string line)
    {
        string[] call = ["--no-config", "-c", "source $argv[1]; complete -C $argv[2]", Script("moorfield.fish"), line];
        var outcome = Tool.Run("fish", call, WithProgram, null);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        return outcome.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);
    }

    [Fact]
    public void Bash_offers_what_the_program_says()
    {
        Bash("moorfield image co").ShouldBe(["compact", "convert"], ignoreOrder: true);
        Bash("moorfield media bui").ShouldBe(["build"]);
        Bash("moorfield inventory --sort ver").ShouldBe(["version"]);
        Bash("moorfield nothing-of-this").ShouldBeEmpty();
        string name = Path.Combine(Root, "x");
        Bash($"moorfield remove {Path.GetDirectoryName(name)} Calc").ShouldContain(c => c.Contains("Calculator", StringComparison.Ordinal));
    }

    [Fact]
    public void Fish_offers_what_the_program_says()
    {
        Fish("moorfield image co").ShouldBe(["compact", "convert"], ignoreOrder: true);
        Fish("moorfield media bui").ShouldBe(["build"]);
        Fish("moorfield inventory --sort ver").ShouldBe(["version"]);
    }

    [Theory]
    [InlineData("moorfield image conv", "moorfield image convert")]
    [InlineData("moorfield media bui", "moorfield media build")]
    [InlineData("moorfield inventory --sort vers", "moorfield inventory --sort version")]
    public void Zsh_completes_what_is_typed(string typed, string completed)
    {
        File.Copy(Script("moorfield.zsh"), Folder["_moorfield"]);
        // A shell in a terminal of its own, in which a person presses the tab key.
        string script = Folder.Write("drive.zsh", """
            zmodload zsh/zpty
            zpty t zsh -f -i
            zpty -w t "unset zle_bracketed_paste; PS1=; fpath=($1 \$fpath); autoload -U compinit; compinit -u -D; print rea''dy"
            while zpty -r t line; do [[ $line == *ready* ]] && break; done
            zpty -w -n t $2$'\t'
            out=
            for i in {1..300}; do
                zpty -r -t t piece && out+=$piece
                [[ $out == *$3* ]] && break
                sleep 0.1
            done
            print -r -- $out
            zpty -d t
            """u8);
        Tool.Run("zsh", ["-f", script, Folder.Path, typed, completed], WithProgram, null).Output.ShouldContain(completed);
    }
}
