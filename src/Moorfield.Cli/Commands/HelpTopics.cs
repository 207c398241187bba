namespace Moorfield.Cli.Commands;

/// <summary>Pages of help that no command has: what words mean, and what a brief says.</summary>
internal static class HelpTopics
{
    internal static HelpPage Words() => new HelpPage("Words", "what the words of Moorfield mean")
        .List("",
        [
            new("newcomers", "accounts that do not exist yet: they get what is provisioned"),
            new("standing", "free: removing it costs nothing; costly: it costs something, the reasons say what; protected: part of Windows that "
                + "people see, removed only if named exactly; essential: Windows or another package needs it, never removed"),
            new("origin", "system: part of Windows; shipped: provisioned by the maker of Windows; maker: by the maker of the machine; extra: by "
                + "someone else; added: installed later for accounts"),
            new("block", "keeps a family from being provisioned again"),
            new("guard", "a policy value where a block is not enough"),
            new("brief", "a YAML file that says which packages go, which stay, and what is blocked and guarded"),
            new("leftover", "what belongs to a package or program that is not there, or to a package that its account does not have"),
            new("survey", "what a running Windows said about itself"),
            new("hand-over", "the scripts that carry a plan out on a running Windows"),
            new("restore point", "what was recorded before a run's first change, so that it can be undone"),
            new("vault", "the folder that holds restore points"),
        ])
        .List("Exit codes",
        [
            new("0", "done, also if it was so already"),
            new("1", "failed"),
            new("2", "called wrongly"),
            new("3", "done in part"),
            new("4", "a difference: check, forecast --expect-none, restore-point verify, a mistyped brief"),
            new("5", "refused for safety"),
            new("130", "stopped"),
        ])
        .List("Files and environment",
        [
            new("MOORFIELD_VAULT", "the vault, unless --vault names another"),
            new("$XDG_STATE_HOME/moorfield/vault", "the vault where nothing names one (XDG_STATE_HOME: ~/.local/state)"),
            new("$XDG_STATE_HOME/moorfield/log", "the run log"),
            new("$XDG_CONFIG_HOME/moorfield/config.yaml", "settings (XDG_CONFIG_HOME: ~/.config)"),
            new("MOORFIELD_BITLOCKER_KEY_FILE", "keys of encrypted disks, unless --bitlocker-key names others"),
        ]);

    internal static HelpPage Briefs() => new HelpPage("Briefs", "what a brief says")
        .Say("A brief is a YAML file. Keys that are not known are errors, with line, column and the nearest known one.")
        .Show("Example",
            "brief: 1",
            "title: ticket counters",
            "for: everyone",
            "remove:",
            "  - Weather",
            "  - origin: [maker, extra]",
            "    because: nobody asked for them",
            "keep:",
            "  - Saltmarsh.*")
        .List("Keys",
        [
            new("brief", "1, the version of this format (needed)"),
            new("title", "one line, shown in messages and restore points"),
            new("for", "for whom: account names, accounts, newcomers, everyone; --for wins"),
            new("maker", "the machines' maker, for images, which do not know it"),
            new("include", "other briefs: a file in the same folder, or url with sha256"),
            new("remove", "rules: what goes"),
            new("keep", "rules: what stays, whatever a rule to remove says"),
            new("block", "family names (Name_PublisherId) to block, installed or not"),
            new("guard", "registry values to set: names that 'guard' lists, or path, name, type and data"),
            new("notes", "a remark for each package that should not go without a thought; it counts as a cost"),
            new("needs", "packages that a package cannot do without, though its manifest does not say so"),
            new("machines", "the machines that it is for; all without it"),
            new("after", "the ring that has to be done before it is handed over: brief, done, days"),
            new("unlisted", "tell (the default) or keep: whether apps that no rule names are reported"),
        ])
        .List("Conditions of rules",
        [
            new("package", "display name, name, family name or full name, any case, * and ? allowed; a rule that is only a name means this"),
            new("publisher", "the publisher's display name, * and ? allowed"),
            new("origin", "system, shipped, maker, extra or added"),
            new("role", "application, addon, framework, resource or component"),
            new("standing", "free, costly, protected or essential"),
            new("find", "a text in names, description or publisher"),
            new("larger-than, smaller-than", "the size of the package's files: 500 KB, 1.5 MB, 2 GB"),
            new("starts-with-windows, runs-in-background", "true or false"),
            new("kind", "app (may be left out) or desktop"),
            new("because", "no condition: a reason, shown by 'brief show'"),
        ])
        .Say("A rule fits when all its conditions fit; a condition of several values fits when one of them does.");

    internal static HelpPage Recipes() => new HelpPage("Recipes", "what a recipe for a medium says")
        .Say("A recipe is a YAML file that 'media build --recipe' follows. All its paths are in its own folder, or below. The same recipe gives the "
            + "same bytes. Keys that are not known are errors, with line, column and the nearest known one.")
        .Show("Example",
            "recipe: 1",
            "title: Ticket counters, autumn 2026",
            "source:",
            "  file: counter-vendor.iso",
            "  sha256: (64 digits)",
            "briefs: [counters.brief.yaml]",
            "editions: [Counter Pro]",
            "only-editions: true",
            "label: COUNTERS_2026",
            "output: counters.iso",
            "checks: [brief, sign-in]")
        .List("Keys",
        [
            new("recipe", "1, the version of this format (needed)"),
            new("title", "one line, for people"),
            new("source", "the ISO to start from: file, and its sha256; another file is refused (needed)"),
            new("briefs", "what goes and what is blocked: files, or url with sha256; several count as one"),
            new("editions", "numbers or names of the editions that are changed; all without it"),
            new("only-editions", "true: the other editions go"),
            new("label", "volume label"),
            new("languages", "in which names of packages are read and shown, such as en-GB"),
            new("files", "files that are added: file, and its path on the medium when that is another one"),
            new("part", "MiB of a part, which splits the image for sticks with FAT32"),
            new("compression", "of an ESD that becomes a WIM: lzx, lzx-thorough, xpress, none"),
            new("sweep", "true: frameworks go that no package needs afterwards"),
            new("output", "the ISO to write (needed)"),
            new("checks", "of all editions of the result: brief (as the briefs want them), sign-in (nothing unwanted comes with it)"),
        ]);
}
