using System.CommandLine;
using Moorfield.Cli.Documents;
using Moorfield.Cli.Rendering;
using Moorfield.Core.Systems;

namespace Moorfield.Cli.Commands;

internal static class BlocksCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument();
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<string> Format = Common.Format("table", "json", "csv");

    internal static Command Create()
    {
        var command = new Command("blocks", """
            Lists the families that are kept from being provisioned again.

            Example:
              moorfield blocks /mnt/counter-07
            """)
        { TargetPath, Edition, Format };
        command.Handle(Run);
        return command;
    }

    private static int Run(ParseResult parsed)
    {
        var (target, snapshots) = Common.Read(parsed.GetRequiredValue(TargetPath), parsed.GetValue(Edition));
        using var open = target;
        var blocks = snapshots.SelectMany(s => s.Blocks.Select(b => (Snapshot: s, Block: b, Package: s.Packages.FirstOrDefault(p => p.Family == b)))).ToList();
        switch (parsed.GetValue(Format))
        {
            case "json":
                DocumentJson.Write(new BlocksJson("moorfield.blocks/1", target.FullPath,
                    [.. blocks.Select(b => new BlockJson(b.Snapshot.EditionNumber, b.Block.ToString(), b.Package?.DisplayName, b.Package is not null))]));
                break;
            case "csv":
                Csv.Write(["family", "displayName", "installed", "edition"], blocks.Select(b => new[]
                {
                    b.Block.ToString(), b.Package?.DisplayName ?? "", b.Package is not null ? "true" : "false", b.Snapshot.EditionNumber?.ToString() ?? "",
                }));
                break;
            default:
                foreach (var snapshot in snapshots)
                    WriteTable(target, snapshot);
                break;
        }
        return Program.Done;
    }

    private static void WriteTable(Target target, SystemSnapshot snapshot)
    {
        if (snapshot.EditionNumber is not null)
            Say.Heading(Words.Describe(snapshot));
        var sheet = new Sheet("Blocked family", "Here now", "Accounts", "Newcomers");
        foreach (var block in snapshot.Blocks)
        {
            var package = snapshot.Packages.FirstOrDefault(p => p.Family == block);
            sheet.Add(
                block.ToString(), package?.DisplayName ?? "no",
                package is null ? Words.Nothing : Words.Accounts(package.Accounts, snapshot),
                package is null ? Words.Nothing : package.Newcomers ? "still get it" : "do not get it");
        }
        if (!snapshot.Blocks.IsEmpty)
            sheet.Write();
        Say.Line($"{Sheet.Count(snapshot.Blocks.Length, "family", "families")} blocked on {Words.Place(target, snapshot)}.");
    }
}
