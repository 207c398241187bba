using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The plan for changing an image file's editions.</summary>
public sealed record EditionProposal(RunRequest Request) : RunProposal([], Request);

/// <summary>
/// Drops editions of an image file, or renames one. Nothing of the file is written over but its header: the run can be undone as long as
/// nothing else changes the file.
/// </summary>
/// <param name="title">One line, for the restore point.</param>
/// <param name="changes">As the file is now; asked again after a person was.</param>
public sealed class EditionOperation(ImageTarget target, string title, Func<ImmutableArray<ImageChange>> changes)
    : RunOperation<EditionProposal>(target)
{
    protected override EditionProposal Propose() =>
        new(new RunRequest(RunKind.Editions, title, null, Target.Identify(), [], [.. changes()]));

    protected override IReadOnlyCollection<SystemSnapshot>? SystemsOf(EditionProposal proposal) => [];
}
