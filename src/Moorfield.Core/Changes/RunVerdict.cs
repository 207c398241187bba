using Moorfield.Core.Systems;

namespace Moorfield.Core.Changes;

/// <summary>Holds a fresh snapshot against the plan that was carried out.</summary>
public static class RunVerdict
{
    /// <summary>One sentence for everything that is not as planned; none when all is.</summary>
    public static IReadOnlyList<string> Check(Plan plan, SystemSnapshot before, SystemSnapshot after)
    {
        var wrong = new List<string>();
        foreach (var package in before.Packages)
        {
            var removal = plan.Removals.FirstOrDefault(r => r.Package.FullName == package.FullName);
            var now = after.Package(package.FullName);
            if (removal is { FilesGo: true })
            {
                if (now is not null)
                    wrong.Add($"{package.FullName} is still there.");
                continue;
            }
            if (now is null)
            {
                wrong.Add($"{package.FullName} is gone.");
                continue;
            }
            var expected = removal is null ? package.Accounts : removal.StaysFor;
            if (!now.Accounts.ToHashSet().SetEquals(expected))
                wrong.Add($"{package.FullName} is registered for other accounts than planned.");
            if (now.Newcomers != (package.Newcomers && removal is not { LeavesNewcomers: true }))
                wrong.Add($"{package.FullName} is {(now.Newcomers ? "still" : "no longer")} provisioned.");
        }
        var blocks = before.Blocks.Concat(plan.Removals.Where(r => r.SetsBlock).Select(r => r.Package.Family)).Concat(plan.Blocks).ToHashSet();
        if (!blocks.SetEquals(after.Blocks))
            wrong.Add("The blocks are others than planned.");
        return wrong;
    }
}
