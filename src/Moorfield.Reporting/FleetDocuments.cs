namespace Moorfield.Reporting;

// The JSON that programs read. Property names and schema names are a promise; docs/json.md describes them.

/// <summary>The <c>inventory</c> document of a fleet.</summary>
/// <param name="Superseded">The number of older documents that were left out.</param>
internal sealed record FleetJson(
    string Schema, string Target, string Path, ImmutableArray<FleetMachineJson> Machines, ImmutableArray<FleetPackageJson> Packages,
    ImmutableArray<FleetFailureJson> Failures, int Superseded, ImmutableArray<SharedIdJson> SharedIds);

/// <param name="Made">When it was surveyed; null for what was read otherwise.</param>
/// <param name="Packages">The number of those that fit the filters.</param>
/// <param name="HandOver">The last run of one; null when none is recorded there.</param>
/// <param name="Briefs">File names of those briefs, among the ones that were given, that are for it; null when none was given.</param>
/// <param name="Agrees">True if it is as they want it; null when that is not known.</param>
internal sealed record FleetMachineJson(
    string File, string Machine, string Id, string System, string Build, string Maker, DateTimeOffset? Made, ImmutableArray<string> Gaps,
    int Packages, HandOverRecordJson? HandOver, string Firmware, string Site, ImmutableArray<string>? Briefs, bool? Agrees);

/// <param name="Code">The exit code of the script; null when that is not known.</param>
/// <param name="Ended">The same in a word: done, done in part, waiting, failed, refused, undone, not known.</param>
internal sealed record HandOverRecordJson(string Plan, string Series, DateTimeOffset? When, int? Code, string Line, string Ended);

/// <param name="Machines">The number that have it; what follows counts among these.</param>
internal sealed record FleetPackageJson(
    string Family, string DisplayName, int Machines, int AllAccounts, int SomeAccounts, int NoAccount, int Newcomers, int Blocked,
    ImmutableArray<string> Versions, ImmutableArray<string> Origins, ImmutableSortedDictionary<string, int> Standings);

internal sealed record FleetFailureJson(string File, string Message);

/// <summary>The <c>compare</c> document of two fleets.</summary>
/// <param name="Machines">The number that both have; differences are of these.</param>
/// <param name="New">Names of machines that only the later one has.</param>
/// <param name="Missing">Names of machines that only the earlier one has.</param>
internal sealed record FleetComparisonJson(
    string Schema, string BeforePath, string AfterPath, int Machines, ImmutableArray<string> New, ImmutableArray<string> Missing,
    ImmutableArray<FleetDifferenceJson> Packages, ImmutableArray<FleetFailureJson> Failures);

/// <param name="Came">Names of machines that have it only now.</param>
/// <param name="Went">Names of machines that do not have it any more.</param>
/// <param name="Renewed">Names of machines that have other versions of it now.</param>
/// <param name="CameBack">Those of them that had it before the earlier reading.</param>
/// <param name="Since">When the first machine was seen to differ; null when only two readings are known.</param>
internal sealed record FleetDifferenceJson(
    string Family, string DisplayName, int Before, int After, ImmutableArray<string> Came, ImmutableArray<string> CameBack,
    ImmutableArray<string> Went, ImmutableArray<string> Renewed, ImmutableArray<string> NewVersions, DateTimeOffset? Since);

/// <param name="New">The number of machines that were not known, and so on.</param>
/// <param name="Known">The number of documents that were added before.</param>
/// <param name="Named">The number of families for which names were taken.</param>
internal sealed record FleetAdditionJson(
    string Schema, string Path, int New, int Changed, int Same, int Late, int Known, int Named, ImmutableArray<FleetFailureJson> Failures);

internal sealed record FleetForgottenJson(string Schema, string Path, ImmutableArray<string> Machines, int States);

/// <param name="Machines">The number of machines that the copy has.</param>
internal sealed record FleetCopiedJson(string Schema, string Path, string Copy, int Machines);

/// <summary>The <c>explain</c> document of a package of a fleet.</summary>
/// <param name="Machines">The number of machines of the fleet.</param>
/// <param name="Found">One for each version that a machine has.</param>
internal sealed record FleetExplanationJson(
    string Schema, string Target, string Path, string Family, string DisplayName, int Machines, ImmutableArray<FleetHolderJson> Found);

/// <param name="HeldBy">everyone, some or nobody, of the machine's accounts.</param>
internal sealed record FleetHolderJson(
    string Machine, string File, string Version, string HeldBy, bool Newcomers, bool Blocked, string Standing, ImmutableArray<string> Reasons,
    DateTimeOffset? Since);

/// <param name="Machines">Names of different machines with one identifier.</param>
internal sealed record SharedIdJson(string Id, ImmutableArray<string> Machines);

/// <summary>The <c>inventory --weeks</c> document of a store.</summary>
/// <param name="Packages">By name.</param>
internal sealed record FleetWeeksJson(
    string Schema, string Target, string Path, ImmutableArray<FleetWeekJson> Weeks, ImmutableArray<FleetWeeksPackageJson> Packages);

/// <param name="Begins">The Monday.</param>
/// <param name="Machines">The number that had been seen by its end.</param>
internal sealed record FleetWeekJson(DateOnly Begins, int Machines);

/// <param name="Machines">The number that had it, week by week.</param>
internal sealed record FleetWeeksPackageJson(
    string Family, string DisplayName, ImmutableArray<int> Machines, ImmutableArray<FleetWeeksVersionJson> Versions);

internal sealed record FleetWeeksVersionJson(string Version, ImmutableArray<int> Machines);

/// <summary>The <c>compare --machine</c> document of a store.</summary>
internal sealed record MachineHistoryJson(
    string Schema, string Target, string Path, string Machine, string File, string Id, ImmutableArray<MachineStepJson> States);

/// <param name="Packages">The number of packages since then; several versions of one count once.</param>
internal sealed record MachineStepJson(DateTimeOffset Since, int Packages, ImmutableArray<MachineChangeJson> Changes);

/// <param name="Change">came, went or renewed.</param>
/// <param name="Before">Versions.</param>
internal sealed record MachineChangeJson(
    string Family, string DisplayName, string Change, ImmutableArray<string> Before, ImmutableArray<string> After);

internal sealed record BatchAddedJson(string Schema, string Path, int Batch, int Jobs);

internal sealed record BatchRetriedJson(string Schema, string Path, int Batch, int Jobs);

internal sealed record BatchesJson(string Schema, string Path, ImmutableArray<BatchJson> Batches);

/// <param name="Options">Those of the command, without the brief.</param>
/// <param name="Ready">The number of jobs that nobody has, and so on.</param>
internal sealed record BatchJson(
    int Number, DateTimeOffset Added, string Brief, ImmutableArray<string> Options, int Ready, int Running, int Done, int Failed);

internal sealed record JobsJson(
    string Schema, string Path, int Batch, DateTimeOffset Added, string Brief, ImmutableArray<string> Options, ImmutableArray<JobJson> Jobs);

/// <param name="Tries">The number of workers that took it since it was added, or tried again.</param>
/// <param name="Said">How it ended, in a line.</param>
/// <param name="Result">A <c>moorfield.target-run</c> document; null before the end.</param>
internal sealed record JobJson(
    string Target, string State, int Tries, string? Worker, DateTimeOffset? Ended, int? ExitCode, int? RestorePoint, string? Said,
    System.Text.Json.JsonElement? Result);
