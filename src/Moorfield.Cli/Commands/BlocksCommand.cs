using System.CommandLine;
using Moorfield.Cli.Documents;
using Moorfield.Cli.Rendering;

namespace Moorfield.Cli.Commands;

internal static class BlocksCommand
{
    private static readonly Argument<string> Target = Common.Target();
    private static readonly Option<string> Format = Common.Format("table", "json", "csv");

    internal static Command Create()
    {
        var command = new Command("blocks", """
            Lists the families that are kept from being provisioned again.

            Example:
              moorfield blocks /mnt/counter-07
            """)
        { Target, Format };
        command.Handle(Run);
        return command;
    }

    private static int Run(ParseResult parsed)
    {
        var (volume, snapshot) = Common.Read(parsed.GetRequiredValue(Target));
        using var open = volume;
        var blocks = snapshot.Blocks.Select(b =>
        {
            var installed = snapshot.Packages.FirstOrDefault(p => p.Family == b);
            return (Block: new BlockJson(b.ToString(), installed?.DisplayName, installed is not null), Package: installed);
        }).ToList();
        switch (parsed.GetValue(Format))
        {
            case "json":
                DocumentJson.Write(new BlocksJson("moorfield.blocks/1", volume.FullPath, [.. blocks.Select(b => b.Block)]));
                break;
            case "csv":
                Csv.Write(["family", "displayName", "installed"], blocks.Select(b => new[] { b.Block.Family, b.Block.DisplayName ?? "", b.Block.Installed ? "true" : "false" }));
                break;
            default:
                var sheet = new Sheet("Blocked family", "Here now", "Accounts", "Newcomers");
                foreach (var (block, package) in blocks)
                {
                    sheet.Add(
                        block.Family, package?.DisplayName ?? "no",
                        package is null ? Words.Nothing : Words.Accounts(package.Accounts, snapshot),
                        package is null ? Words.Nothing : package.Newcomers ? "still get it" : "do not get it");
                }
                if (blocks.Count > 0)
                    sheet.Write();
                Say.Line($"{Sheet.Count(blocks.Count, "family", "families")} blocked on {volume.Name}.");
                break;
        }
        return Program.Done;
    }
}
