namespace Moorfield.Cli.Commands;

/// <summary>The way of a removal from its proposal to its result, however the packages were chosen.</summary>
internal static class RemovalRun
{
    /// <param name="notices">Sentences for the preview: what else is to be known before something is removed.</param>
    /// <param name="brief">Title or name of the brief that it follows; null when it follows none.</param>
    internal static ExitCode Run(Invocation call, ChangeOptions options, RemovalOperation removal, string? brief, bool keepFiles, bool acceptsCosts,
        Func<IEnumerable<string>>? notices = null)
    {
        var target = removal.Target;
        var proposal = removal.Plan();
        if (!proposal.HasEffect)
            return NothingToDo(call, options, target, proposal, brief);
        var result = options.CarryOut(
            call, removal, proposal, DocumentBuilder.Plan(target, proposal.Plans),
            page =>
            {
                RemovalText.ShowPreview(page, target, proposal.Plans, keepFiles, options.HasRestorePoint(call), !options.GoesAhead(call));
                foreach (string notice in notices?.Invoke() ?? [])
                    page.Line(notice);
            },
            (page, outcome) => RemovalText.ShowResult(page, target, proposal.Plans, outcome), keepFiles, acceptsCosts);
        return result == ExitCode.Done && proposal.IsRefusedInPart && !options.IsPreview(call) ? ExitCode.DoneInPart : result;
    }

    private static ExitCode NothingToDo(Invocation call, ChangeOptions options, Target target, RemovalProposal proposal, string? brief)
    {
        options.Writer(call).Write(new Report(
            () => DocumentBuilder.Plan(target, proposal.Plans), page => RemovalText.ShowStaying(page, proposal.Plans)));
        if (proposal.IsRefusedInPart)
        {
            throw new MoorfieldException(proposal.Plans.Any(p => p.Plan.Refused.Any()) ? RefusalReason.Essential : RefusalReason.Unsupported,
                "Nothing of what is named may be removed. Nothing was changed.");
        }
        var names = proposal.Plans.SelectMany(p => p.Plan.Removals).Select(r => r.Package.DisplayName)
            .Concat(proposal.Plans.SelectMany(p => p.Plan.Programs).Select(p => p.Program.Name)).Distinct(StringComparer.Ordinal).ToList();
        call.Console.Notice(brief is not null ? $"{target.Name} is as the brief '{brief}' wants it. Nothing was changed."
            : names.Count > 0 ? $"{TextFormat.List(names)}: nothing to remove for {proposal.Plans[0].Audience}. Nothing was changed."
            : "Nothing was changed.");
        return ExitCode.Done;
    }
}
