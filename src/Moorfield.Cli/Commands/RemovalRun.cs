using System.CommandLine;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Targets;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

/// <summary>The way of a removal from its proposal to its result, however the packages were chosen.</summary>
internal static class RemovalRun
{
    /// <param name="brief">Title or name of the brief that it follows; null when it follows none.</param>
    internal static int Run(ParseResult parsed, ChangeOptions options, RemovalOperation removal, string? brief, bool keepFiles, bool acceptsCosts)
    {
        var target = removal.Target;
        var proposal = removal.Plan();
        if (!proposal.HasEffect)
            return NothingToDo(parsed, options, target, proposal, brief);
        int result = options.CarryOut(
            parsed, removal, proposal, DocumentBuilder.Plan(target.FullPath, proposal.Plans),
            () => RemovalText.ShowPreview(target, proposal.Plans, keepFiles, options.HasRestorePoint(parsed), !options.GoesAhead(parsed)),
            outcome => RemovalText.ShowResult(target, proposal.Plans, outcome),
            keepFiles, acceptsCosts);
        return result == Program.Done && proposal.IsRefusedInPart && !options.IsPreview(parsed) ? Program.DoneInPart : result;
    }

    private static int NothingToDo(ParseResult parsed, ChangeOptions options, Target target, RemovalProposal proposal, string? brief)
    {
        if (options.IsJson(parsed))
            DocumentJson.Write(DocumentBuilder.Plan(target.FullPath, proposal.Plans));
        else
            RemovalText.ShowStaying(proposal.Plans);
        if (proposal.IsRefusedInPart)
            throw new MoorfieldException(ErrorKind.Refused, "Nothing of what was named may be removed. Nothing was changed.");
        var names = proposal.Plans.SelectMany(p => p.Plan.Removals).Select(r => r.Package.DisplayName).Distinct(StringComparer.Ordinal).ToList();
        ConsoleOutput.Notice(brief is not null ? $"{target.Name} is as the brief '{brief}' wants it. Nothing was changed."
            : names.Count > 0 ? $"None of this is there for {proposal.Plans[0].Audience}: {string.Join(", ", names)}. Nothing was changed."
            : "Nothing was changed.");
        return Program.Done;
    }
}
