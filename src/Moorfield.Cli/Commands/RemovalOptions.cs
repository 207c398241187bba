namespace Moorfield.Cli.Commands;

/// <summary>The options of every removal, however its packages are chosen.</summary>
internal sealed class RemovalOptions
{
    private readonly Option<string[]> _for = new("--for") { Description = "Account names, accounts (all), newcomers, or everyone", HelpName = "WHO" };
    private readonly Option<string[]> _edition = Common.Edition();
    private readonly Option<bool> _keepFiles = new("--copy-files") { Description = "On an image: copy removed files to the vault" };
    private readonly Option<bool> _keepData = new("--leave-data") { Description = "Leave the app data of accounts" };
    private readonly Option<bool> _allowReturn = new("--allow-return") { Description = "Set no block; an update may bring it back" };
    private readonly Option<bool> _sweep = new("--sweep") { Description = "Also remove frameworks that no package needs afterwards" };
    private readonly Option<bool> _acceptCosts = new("--accept-costs") { Description = "Accept the costs of the removal; needed with --yes" };

    internal RemovalOptions(Command command)
    {
        foreach (var option in new Option[] { _for, _edition, _keepFiles, _keepData, _allowReturn, _sweep, _acceptCosts })
            command.Add(option);
    }

    internal string[] Who(Invocation call) => call.GetValue(_for) ?? [];

    internal string[]? Editions(Invocation call) => call.GetValue(_edition);

    internal bool AcceptsCosts(Invocation call) => call.GetValue(_acceptCosts);

    internal bool AllowsReturn(Invocation call) => call.GetValue(_allowReturn);

    internal bool KeepFiles(Invocation call, Target target) =>
        call.GetValue(_keepFiles) && (target.HasEditions
            ? true
            : throw new MoorfieldException(ErrorKind.InvalidUsage,
                "--copy-files is for images. On a volume the restore point always holds the removed files."));

    internal RemovalRequest Apply(Invocation call, RemovalRequest request) =>
        request with { KeepData = call.GetValue(_keepData), AllowReturn = AllowsReturn(call), Sweep = call.GetValue(_sweep) };
}
