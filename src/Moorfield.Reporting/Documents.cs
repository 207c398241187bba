using System.Text.Json.Serialization;
using System.Text.Json;

namespace Moorfield.Reporting;

// The JSON that programs read. Property names and schema names are a promise; docs/json.md describes them.

internal sealed record AccountJson(string Name, string Sid);

internal sealed record ReasonJson(string Code, string Kind, string Text, ImmutableArray<string> Objects);

internal sealed record NoteJson(string Code, string Text, string? Package);

internal sealed record PackageJson(
    string Family, string FullName, string Name, string DisplayName, string? RawDisplayName, string Publisher, string Version, string Architecture,
    string Role, string Origin, long Bytes, ImmutableArray<string> Accounts, bool Newcomers, bool Blocked, string Standing,
    ImmutableArray<ReasonJson> Reasons, int WithheldFiles = 0, string? Description = null, bool StartsWithWindows = false,
    bool RunsInBackground = false, string? NameSource = null, string? NeutralName = null);

internal sealed record SystemJson(
    int? Edition, string Name, string Product, string Release, string Build, string Computer, string Manufacturer,
    ImmutableArray<AccountJson> Accounts, ImmutableArray<PackageJson> Packages, ImmutableArray<string> Blocks, ImmutableArray<NoteJson> Notes,
    ImmutableArray<LeftoverJson> Leftovers, ImmutableArray<ProgramJson> Programs);

internal sealed record LeftoverJson(string Kind, string? Family, string? FullName, string? Program, string? Account, long Bytes, string Place);

/// <param name="Account">Null when the machine has it, and for newcomers.</param>
/// <param name="Newcomers">True if it is not there yet and installs itself at a first sign-in.</param>
internal sealed record ProgramJson(string Name, string Version, string Publisher, long Bytes, string? Account, bool Newcomers,
    string? UninstallCommand, string? QuietUninstallCommand, string? ProductCode, string? Folder, string? Key, ImmutableArray<StartJson> Starts);

/// <param name="For">machine, account or newcomers.</param>
/// <param name="Principal">The account that a task runs as; null for others.</param>
internal sealed record StartJson(string Kind, string Name, string Command, string For, bool SwitchedOff, bool StartsWithWindows, string? Principal,
    string Place);

/// <summary>The <c>explain</c> document of a desktop program.</summary>
internal sealed record ProgramExplanationJson(string Schema, string Target, string Path, int? Edition, ProgramJson Program);

/// <param name="Filtered">True if packages were left out, as was asked for.</param>
internal sealed record InventoryJson(string Schema, string Target, string Path, string Kind, ImmutableArray<SystemJson> Systems,
    bool Filtered = false);

internal sealed record PartJson(string FullName, string Kind, long Bytes);

internal sealed record ApplicationJson(string Id, string? DisplayName, bool ShownInStart, string? Description = null);

internal sealed record ExplanationJson(string Schema, string Target, string Path, int? Edition, PackageJson Package, string? Description,
    ImmutableArray<PartJson> Parts,
    ImmutableArray<ApplicationJson> Applications, ImmutableArray<string> Needs, ImmutableArray<string> NeededBy, ImmutableArray<string> FileTypes,
    ImmutableArray<string> Schemes, ImmutableArray<string> Aliases, ImmutableArray<string> StartupTasks, bool RunsInBackground,
    ImmutableArray<string> Capabilities, ImmutableArray<string> Places, ImmutableArray<string> Guards);

internal sealed record RemovalJson(
    int? Edition, string Family, string FullName, string DisplayName, string Version, ImmutableArray<string> LeavesAccounts, bool LeavesNewcomers,
    bool SetsBlock, bool FilesGo, long Bytes, ImmutableArray<string> StaysFor, bool StaysForNewcomers, string? GoesWith, string Standing,
    ImmutableArray<ReasonJson> Reasons);

/// <param name="For">Null for a guard of the machine.</param>
internal sealed record GuardJson(string Hive, string Key, string Name, HoldersJson? For);

internal sealed record StayingJson(int? Edition, string Family, string DisplayName, string Standing, ImmutableArray<ReasonJson> Reasons,
bool NamedExactly);

internal sealed record ChangeJson(int? Edition, string Family, string Text);

internal sealed record PlanJson(string Schema, string Target, string Path, string Action, HoldersJson? For, ImmutableArray<RemovalJson> Removals,
    ImmutableArray<StayingJson> Staying,
    ImmutableArray<string> Families, ImmutableArray<string> IdleFrameworks, ImmutableArray<GuardJson> Guards, ImmutableArray<ChangeJson> Changes,
    int? Undoes, bool WholeFile = false)
{
    public CompactingJson? Compacting { get; init; }

    /// <summary>The plans for desktop programs, in a removal.</summary>
    public ImmutableArray<ProgramRemovalJson> Programs { get; init; } = [];

    /// <summary>True if the vault keeps what is taken encrypted; null when it is not taken from an encrypted volume.</summary>
    public bool? KeptEncrypted { get; init; }
}

/// <param name="Entries">Those that install it at a first sign-in, and go.</param>
/// <param name="Blocks">Places of the blocks that are set.</param>
/// <param name="Accounts">Those that lose it.</param>
internal sealed record ProgramRemovalJson(int? Edition, string Name, ImmutableArray<StartJson> Entries, ImmutableArray<string> Blocks,
    ImmutableArray<ProgramLossJson> Accounts, string? StaysBecause);

/// <param name="Bytes">In its folder.</param>
/// <param name="Stays">Its parts that stay, each a sentence.</param>
internal sealed record ProgramLossJson(string Account, string Folder, long Bytes, ImmutableArray<string> Stays, ImmutableArray<ReasonJson> Costs);

/// <param name="Runs">Restore points that can still be undone; of <paramref name="Lost"/> the files are gone afterwards.</param>
internal sealed record CompactingJson(string? To, long Bytes, ImmutableArray<int> Runs, ImmutableArray<int> Lost);

internal sealed record FailureJson(string Family, string What, string Message);

internal sealed record ResultJson(string Schema, string Target, string Path, PlanJson Plan, int Changes, int? RestorePoint, string? Vault,
    ImmutableArray<FailureJson> Failures,
    ImmutableArray<string> Warnings, bool Verified, ImmutableArray<DisagreementJson> Disagreements, long? FileBytes = null);

internal sealed record DisagreementJson(int? Edition, string? Family, string Text);

internal sealed record GuardStateJson(int? Edition, string? Guard, string Hive, string Key, string Name, HoldersJson? For, string State,
    string? Family, string? Because, bool IsAbsence, string Effect, bool IsReported, bool OnlyByName);

internal sealed record GuardsJson(string Schema, string Target, string Path, ImmutableArray<GuardStateJson> Guards);

internal sealed record HoldersJson(ImmutableArray<string> Accounts, bool Newcomers);

internal sealed record ForecastFamilyJson(
    string Family, string DisplayName, string Role, string Fate, string Cause, string? Now, string? Then, HoldersJson Before, HoldersJson After,
    HoldersJson KeptFrom, bool Unwanted);

internal sealed record DeliveryJson(string Kind, HoldersJson For, ImmutableArray<string> Guards, bool Unwanted);

internal sealed record ForecastSystemJson(int? Edition, string Build, ImmutableArray<ForecastFamilyJson> Families,
ImmutableArray<DeliveryJson> Deliveries, ImmutableArray<DeliveryJson> Doubtful, string? Remedy)
{
    /// <summary>Desktop programs that install themselves at a first sign-in.</summary>
    public ImmutableArray<ForecastProgramJson> Programs { get; init; } = [];

    /// <summary>Families that would come and that no rule of the brief names.</summary>
    public ImmutableArray<string> Unlisted { get; init; } = [];
}

/// <param name="Blocked">True if a block keeps it from that.</param>
internal sealed record ForecastProgramJson(string Name, bool Blocked, bool Unwanted, ImmutableArray<StartJson> Entries);

/// <param name="Event">update or signIn.</param>
/// <param name="Image">Null for a sign-in.</param>
internal sealed record ForecastJson(string Schema, string Target, string Path, string Event, string? Image, int? ImageEdition, string? ImageBuild,
    ImmutableArray<ForecastSystemJson> Systems);

/// <summary>The <c>forecast</c> document of a fleet.</summary>
/// <param name="Event">update or signIn.</param>
/// <param name="Image">Null for a sign-in.</param>
/// <param name="Machines">The number of machines.</param>
/// <param name="Clean">The number of those to which nothing unwanted would come.</param>
/// <param name="NoBrief">Machines that none of the briefs is for.</param>
/// <param name="UpToDate">Machines that have the image's build already, or a newer one.</param>
internal sealed record FleetForecastJson(
    string Schema, string Target, string Path, string Event, string? Image, int Machines, int Clean, ImmutableArray<FleetFateJson> Families,
    ImmutableArray<FleetDeliveryJson> Deliveries, ImmutableArray<UnlistedJson> Unlisted, ImmutableArray<string> NoBrief,
    ImmutableArray<string> UpToDate, ImmutableArray<FleetFailureJson> Failures);

/// <param name="Machines">Those on which it has this fate for this cause.</param>
internal sealed record FleetFateJson(
    string Family, string DisplayName, string Role, string Fate, string Cause, ImmutableArray<string> Machines, ImmutableArray<string> Unwanted,
    ImmutableArray<string> Now, ImmutableArray<string> Then);

internal sealed record FleetDeliveryJson(string Kind, ImmutableArray<string> Machines, bool Unwanted);

internal sealed record BlockJson(int? Edition, string Family, string? DisplayName, bool Installed, bool Present, DateTimeOffset? Since,
int? RestorePoint);

/// <param name="Program">The desktop program that it keeps from newcomers; null when nothing is there that would install one.</param>
internal sealed record StartBlockJson(int? Edition, string Kind, string Name, string Place, string? Program);

internal sealed record BlocksJson(string Schema, string Target, string Path, ImmutableArray<BlockJson> Blocks,
    ImmutableArray<StartBlockJson> Programs);

internal sealed record PointJson(
    int Number, string Kind, int? Undoes, DateTimeOffset Created, string Title, string? Note, string State, ImmutableArray<int> UndoneBy,
    string Computer, string Path, ImmutableArray<ConcernedPackage> Packages, int Changes, ImmutableArray<ConcernedPackage> UndonePackages,
    bool Pinned, long? OwnBytes, long? SharedBytes, bool Encrypted);

internal sealed record PointsJson(string Schema, string Vault, ImmutableArray<PointJson> RestorePoints);

internal sealed record PointDetailJson(string Schema, string Vault, PointJson RestorePoint, ImmutableArray<ChangeJson> Changes,
ImmutableArray<JournalLine> Journal);

internal sealed record EditionJson(
    int Number, string Name, string Description, string Product, string EditionId, string Build, string Architecture,
    ImmutableArray<string> Languages, long Bytes, long Files, int? Provisioned, string? Problem);

internal sealed record ImageJson(string Schema, string Target, string Path, ImmutableArray<EditionJson> Editions, string Compression, int ChunkSize,
    string Version, int Part, int Parts,
    bool Integrity, int BootIndex, string Guid, long Bytes, long Reclaimable, bool Changeable, MediumJson? Medium = null);

internal sealed record BootJson(string Firmware, uint Block, int Sectors);

internal sealed record MediumFileJson(string Path, long Bytes);

/// <param name="Offset">Where the image begins, in bytes.</param>
internal sealed record MediumJson(
    string Label, ImmutableArray<string> Views, ImmutableArray<BootJson> Boot, string Image, long Offset, long Bytes,
    ImmutableArray<MediumFileJson> Files);

internal sealed record DifferenceJson(string Code, string? Family, string? DisplayName, string Text);

internal sealed record CheckedJson(string Target, string Path, int? Edition, bool Agrees, ImmutableArray<DifferenceJson> Differences, string? Error,
    string Name, HandOverRecordJson? HandOver, ImmutableArray<UnmatchedRuleJson> UnmatchedRules, ImmutableArray<string> Unlisted,
    ImmutableArray<string> Briefs);

internal sealed record UnmatchedRuleJson(string At, string Does, string What, ImmutableArray<string> NearMisses, bool Known, bool SeemsMistyped);

internal sealed record CheckJson(
    string Schema, string Brief, string? Title, bool Agrees, ImmutableArray<CheckedJson> Systems, ImmutableArray<string> Briefs);

internal sealed record RuleJson(string Does, string At, string Conditions, string? Because, ImmutableArray<string> Packages)
{
    /// <summary>Names of the desktop programs that the rule means.</summary>
    public ImmutableArray<string> Programs { get; init; } = [];
}

internal sealed record TakenJson(string FullName, string DisplayName, string TakenBy, string? KeptBy);

internal sealed record BriefSystemJson(int? Edition, ImmutableArray<RuleJson> Rules, ImmutableArray<TakenJson> Taken, ImmutableArray<string> Blocks);

internal sealed record BriefJson(string Schema, string Brief, string? Title, string Target, string Path, ImmutableArray<BriefSystemJson> Systems);

internal sealed record PackageDifferenceJson(
    string Kind, string Family, string DisplayName, string Architecture, string? Before, string? After, ImmutableArray<string> Gained,
    ImmutableArray<string> Lost, bool? Newcomers, long Bytes);

internal sealed record SystemTotalsJson(int Packages, long Bytes, int StartWithWindows, int RunInBackground, int Newcomers);

internal sealed record ComparedJson(
    int? BeforeEdition, int? AfterEdition, ImmutableArray<PackageDifferenceJson> Packages, ImmutableArray<string> Blocked,
    ImmutableArray<string> Unblocked, SystemTotalsJson TotalsBefore, SystemTotalsJson TotalsAfter);

internal sealed record ComparisonJson(string Schema, string Before, string BeforePath, string After, string AfterPath,
    ImmutableArray<ComparedJson> Systems);

/// <param name="Compared">Files that were read back.</param>
internal sealed record BuiltMediumJson(
    string Schema, string Target, string Path, string Medium, long Bytes, long ImageBytes, int Parts, string? Sha256, int Compared, PlanJson Plan)
{
    /// <summary>Path of the provenance; null when none was written.</summary>
    public string? Provenance { get; init; }

    /// <summary>Of the recipe; null without one.</summary>
    public ImmutableArray<MediaCheckJson>? Checks { get; init; }
}

/// <param name="Findings">A line each.</param>
internal sealed record MediaCheckJson(string Check, bool Agrees, ImmutableArray<string> Findings);

/// <param name="Version">Of the program that built it.</param>
/// <param name="Program">SHA-256 of that program.</param>
internal sealed record VerifiedMediumJson(
    string Schema, string Target, string Path, string Provenance, bool Agrees, string Version, string Program, string? Recipe,
    ImmutableArray<VerifiedPartJson> Parts);

internal sealed record VerifiedPartJson(string What, string Name, string State, string Recorded, string? Found);

/// <param name="Made">Null when it does not say.</param>
/// <param name="Gaps">The data that it could not see, a sentence each.</param>
internal sealed record ListedSurveyJson(
    string File, string? Computer, string? Product, string? Build, DateTimeOffset? Made, bool Complete, ImmutableArray<string> Gaps, string? Error);

internal sealed record SurveysJson(string Schema, string Folder, ImmutableArray<ListedSurveyJson> Surveys);

internal sealed record FaultJson(int Number, string Text, ImmutableArray<string> Packages);

/// <param name="Unneeded">Contents that no restore point needs.</param>
/// <param name="Strays">Files next to the documents that interrupted runs left.</param>
/// <param name="Bytes">Of what is unneeded.</param>
/// <param name="Mended">True if both were deleted.</param>
/// <param name="CiphertextOnly">Encrypted restore points of which no key is here: only the ciphertext was checked.</param>
internal sealed record VerificationJson(
    string Schema, string Vault, int RestorePoints, int Sound, int Contents, int AsRecorded, ImmutableArray<FaultJson> Faults, int Unneeded,
    int Strays, long Bytes, bool Mended, ImmutableArray<int> CiphertextOnly);

/// <param name="Fault">Null when it works.</param>
/// <param name="Package">Of this distribution; empty when none has it.</param>
internal sealed record MachinePartJson(
    string Name, string Use, bool Needed, bool Works, string Version, string Path, string? Fault, string Package);

/// <param name="Read">Why it cannot be read; null when it can, as for <paramref name="Change"/>.</param>
internal sealed record MachineTargetJson(string Target, string? Kind, string? Read, string? Change);

internal sealed record DoctorJson(string Schema, ImmutableArray<MachinePartJson> Parts, MachineTargetJson? Target);

/// <summary>The document of a command that has nothing to list.</summary>
/// <param name="Action">The command, such as <c>restore-point pin</c>.</param>
/// <param name="Target">As typed; null where <paramref name="Path"/> is a vault.</param>
/// <param name="Path">Of the target or vault, absolute.</param>
/// <param name="Files">Files and folders that were written, absolute.</param>
/// <param name="RestorePoints">The restore points that it is about.</param>
/// <param name="Bytes">Bytes written, or given back by a deletion; null where there is nothing to measure.</param>
internal sealed record DoneJson(
    string Schema, string Action, bool Changed, string? Target, string Path, ImmutableArray<string> Files, ImmutableArray<int> RestorePoints,
    long? Bytes);

/// <summary>The document of a failed call with <c>--format json</c>.</summary>
/// <param name="Kind">failed, invalidUsage, refused or stopped.</param>
/// <param name="Reason">Why it was refused; null for other kinds.</param>
internal sealed record ErrorJson(string Schema, int ExitCode, string Kind, string? Reason, string Message);

internal sealed record HandOverJson(string Schema, string Folder, ImmutableArray<string> Files, PlanJson Plan);

internal sealed record FleetHandOverJson(string Schema, string Folder, ImmutableArray<string> Files, FleetPlanJson Plan);

/// <summary>A hand-over planned on many machines.</summary>
/// <param name="Brief">Its file's name.</param>
/// <param name="Machines">The number of machines.</param>
/// <param name="Decided">Source and conditions of rules that were decided by these machines alone.</param>
/// <param name="Matched">Patterns that scripts match as well.</param>
internal sealed record FleetPlanJson(
    string Schema, string Target, string Brief, ImmutableArray<string> For, int Machines, ImmutableArray<FleetRemovalJson> Removals,
    ImmutableArray<FleetStayJson> Staying, ImmutableArray<string> Blocks, ImmutableArray<PlannedGuardJson> Guards,
    ImmutableArray<UnlistedJson> Unlisted, ImmutableArray<string> Matched, ImmutableArray<string> Decided, ImmutableArray<FleetFailureJson> Failures);

/// <param name="Family">Null for a desktop program.</param>
internal sealed record FleetRemovalJson(
    string? Family, string DisplayName, int Machines, ImmutableArray<string> Versions, ImmutableArray<OnMachinesJson> Costs);

internal sealed record OnMachinesJson(string Text, ImmutableArray<string> Machines);

internal sealed record FleetStayJson(string DisplayName, string Text, ImmutableArray<string> Machines);

internal sealed record PlannedGuardJson(string? Name, string Hive, string Key, string Value);

internal sealed record UnlistedJson(string Family, string DisplayName, int Machines);

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true, UseStringEnumConverter = true)]
[JsonSerializable(typeof(InventoryJson))]
[JsonSerializable(typeof(ExplanationJson))]
[JsonSerializable(typeof(ProgramExplanationJson))]
[JsonSerializable(typeof(PlanJson))]
[JsonSerializable(typeof(ResultJson))]
[JsonSerializable(typeof(BlocksJson))]
[JsonSerializable(typeof(PointsJson))]
[JsonSerializable(typeof(PointDetailJson))]
[JsonSerializable(typeof(GuardsJson))]
[JsonSerializable(typeof(ForecastJson))]
[JsonSerializable(typeof(CheckJson))]
[JsonSerializable(typeof(BriefJson))]
[JsonSerializable(typeof(ComparisonJson))]
[JsonSerializable(typeof(ImageJson))]
[JsonSerializable(typeof(SurveysJson))]
[JsonSerializable(typeof(HandOverJson))]
[JsonSerializable(typeof(ErrorJson))]
[JsonSerializable(typeof(VerificationJson))]
[JsonSerializable(typeof(DoneJson))]
[JsonSerializable(typeof(DoctorJson))]
[JsonSerializable(typeof(BuiltMediumJson))]
[JsonSerializable(typeof(VerifiedMediumJson))]
[JsonSerializable(typeof(FleetHandOverJson))]
[JsonSerializable(typeof(FleetPlanJson))]
[JsonSerializable(typeof(FleetAdditionJson))]
[JsonSerializable(typeof(BatchAddedJson))]
[JsonSerializable(typeof(BatchRetriedJson))]
[JsonSerializable(typeof(BatchesJson))]
[JsonSerializable(typeof(JobsJson))]
[JsonSerializable(typeof(FleetCopiedJson))]
[JsonSerializable(typeof(FleetForgottenJson))]
[JsonSerializable(typeof(FleetForecastJson))]
[JsonSerializable(typeof(FleetJson))]
[JsonSerializable(typeof(FleetComparisonJson))]
[JsonSerializable(typeof(FleetWeeksJson))]
[JsonSerializable(typeof(MachineHistoryJson))]
[JsonSerializable(typeof(FleetExplanationJson))]
internal sealed partial class DocumentJson : JsonSerializerContext
{
    /// <summary>A document as UTF-8, with letters as they are instead of as escapes: readable on a terminal and in a diff.</summary>
    internal static byte[] Bytes(object document)
    {
        var readable = new DocumentJson(new JsonSerializerOptions(Default.Options)
        {
            Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
        });
        return System.Text.Encoding.UTF8.GetBytes(Escaped(JsonSerializer.Serialize(document, readable.GetTypeInfo(document.GetType())!)) + "\n");
    }

    /// <summary>The same document with escapes for what no terminal should get; outside of texts JSON holds none of that but line breaks.</summary>
    private static string Escaped(string json)
    {
        var text = new System.Text.StringBuilder();
        int written = 0, at = 0;
        foreach (var rune in json.EnumerateRunes())
        {
            if (rune.Value != '\n' && !ConsoleOutput.IsShown(rune))
            {
                text.Append(json, written, at - written).Append(string.Concat(rune.ToString().Select(c => $"\\u{(int)c:x4}")));
                written = at + rune.Utf16SequenceLength;
            }
            at += rune.Utf16SequenceLength;
        }
        return written == 0 ? json : text.Append(json, written, json.Length - written).ToString();
    }
}
