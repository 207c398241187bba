using Moorfield.Cli.Host;
using Moorfield.Core.Images;
using Moorfield.Formats.Media;

namespace Moorfield.Cli.Commands;

/// <summary><c>media</c> makes install media from others.</summary>
internal static class MediaCommand
{
    private static readonly Argument<string> Source = new("ISO") { Description = "An ISO with an install image; it is only read" };
    private static readonly Option<string> To = new("--to") { Description = "The ISO to write", HelpName = "FILE", Required = true };
    private static readonly Option<string?> Label = new("--label") { Description = "Volume label (default: the source's)",
        HelpName = "TEXT" };

    private static readonly Option<bool> Replace = new("--replace") { Description = "Replace an existing file" };
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<bool> OnlyEditions = new("--only-editions")
    {
        Description = "Drop editions that --edition does not name",
    };

    private static readonly Option<string[]> Add = new("--add")
    {
        Description = "File to add, and its place on the medium (repeatable)",
        HelpName = "FILE=PATH",
    };

    private static readonly Option<bool> Split = new("--split") { Description = "Split the image, for sticks with FAT32" };
    private static readonly Option<int> Part = ImageExportCommand.Part();
    private static readonly Option<string> Compression = ImageExportCommand.Compression("Of an ESD that becomes a WIM");
    private static readonly Option<bool> NoDigest = new("--without-sha256")
    {
        Description = "Skip the SHA-256 of the result",
    };

    private static readonly Option<bool> Sweep = new("--sweep") { Description = "Also remove frameworks that no package needs afterwards" };

    internal static Command Create() => new("media", "Builds install media.") { CreateBuild(), CreateFolder(), CreateLabel() };

    private static Command CreateLabel()
    {
        var iso = new Argument<string>("ISO") { Description = "An ISO with an install image" };
        var text = new Argument<string>("TEXT") { Description = "New label: 1 to 30 ASCII letters, 16 with Joliet" };
        var yes = new Option<bool>("--yes", "-y") { Description = "Do not ask for confirmation" };
        var format = Common.Format();
        var command = new Command("label", """
            Changes the label of an ISO in place. Only the blocks that hold labels are written; the same command restores the old one.

            Example:
              moorfield media label counters.iso COUNTERS_2026
            """)
        { iso, text, yes, format };
        command.Handle(call =>
        {
            using var target = Common.Open(call, call.GetRequiredValue(iso));
            if (target.AsImage is not { Image.Medium: { } medium } source)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{target.Name} is {target.Description}. 'media label' takes an ISO.");
            string label = call.GetRequiredValue(text);
            if (medium.Whole.Label == label)
            {
                call.WriteDone(format, DocumentBuilder.Done("media label", source.Given, source.FullPath, changed: false),
                    $"{source.Name} has the label '{label}' already. Nothing was changed.");
                return ExitCode.Done;
            }
            if (!call.GetValue(yes) && !call.Console.Confirm($"Write the label '{label}' in place of '{medium.Whole.Label}'?"))
            {
                call.Console.Notice("Nothing was changed.");
                return ExitCode.Done;
            }
            int blocks = MediaBuilder.Relabel(source, label);
            call.WriteDone(format, DocumentBuilder.Done("media label", source.Given, source.FullPath, [source.FullPath]),
                $"{source.Name} has the label '{label}' now, in {TextTable.Count(blocks, "block")}; it was '{medium.Whole.Label}'.");
            return ExitCode.Done;
        });
        return command;
    }

    private static Command CreateFolder()
    {
        var iso = new Argument<string>("ISO") { Description = "An ISO with an install image; it is only read" };
        var to = new Option<string>("--to") { Description = "Folder, such as the mount point of a stick", HelpName = "DIR", Required = true };
        var whole = new Option<bool>("--whole") { Description = "Do not split the image: for sticks without FAT32" };
        var part = ImageExportCommand.Part();
        var compression = ImageExportCommand.Compression("Of an ESD that becomes a WIM");
        var format = Common.Format();
        var command = new Command("folder", """
            Writes the files of an ISO into a folder, and reads them back. An image of 4 GiB or more, which a stick with FAT32 does not take, is
            written in parts; setup reads them as one.

            Example:
              moorfield media folder counters.iso --to /media/stick
            """)
        { iso, to, whole, part, compression, format };
        command.Handle(call =>
        {
            using var target = Common.Open(call, call.GetRequiredValue(iso));
            if (target.AsImage is not { Image.Medium: { } medium } source)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{target.Name} is {target.Description}. 'media folder' takes an ISO.");
            string folder = call.GetRequiredValue(to);
            bool splits = !call.GetValue(whole) && medium.Image.Size > Math.Min(MediaUnpacker.MaxFatFileBytes,
                call.Has(part) ? ImageExportCommand.PartBytes(call, part, splits: true)!.Value : long.MaxValue);
            var making = new MediaImageBuilder(source, null)
            {
                Part = ImageExportCommand.PartBytes(call, part, splits),
                Compression = ImageExportCommand.CompressionOf(call, compression),
            };
            var unpacking = new MediaUnpacker(source, folder) { Making = making };
            unpacking.Check();
            if (making.Converts && call.Writer(format).IsForPeople)
                call.Console.Line("The image is an ESD, which cannot be split: it becomes a WIM on the way. That takes "
                    + $"{Minutes(medium.Image.Size)}.");
            var at = new WorkProgress("Beginning", 0, null);
            MediaUnpackResult done;
            using (new Ticker(call.Console, () => Ticker.Text(at)))
                done = unpacking.Unpack(new WriteInterceptor(), TimeProvider.System, state => at = state, call.BeginChanging());
            call.WriteDone(format, DocumentBuilder.Done("media folder", source.Given, source.FullPath, [folder], bytes: done.Bytes),
                [$"{folder} has {TextTable.Count(done.Files, "file")} of {source.Name}, {TextTable.Size(done.Bytes)}"
                    + $"{(done.Parts > 1 ? $", the image in {done.Parts} parts" : "")}. All of them were read back, byte for byte.",
                .. medium.Whole.Boot.Any(b => b.Platform == BootPlatform.Uefi) ? Array.Empty<string>()
                    : ["The medium has no entry for UEFI: a stick with these files may start no machine."]]);
            return ExitCode.Done;
        });
        return command;
    }

    private static Command CreateBuild()
    {
        var command = new Command("build", """
            Writes a copy of an ISO without some packages: removes and blocks them in the image inside, compacts the image, leaves everything
            else as it is, and compares the result with the source. Can also change the label, drop editions, add files and split the image.

            Example:
              moorfield media build vendor.iso --to counters.iso --label COUNTERS Weather 'Larkfield.*'
              moorfield media build vendor.iso --to counters.iso --brief counters.brief.yaml --yes --accept-costs
              moorfield media build vendor.iso --to stick.iso --split --add answers.xml=answers.xml
            """)
        { Source };
        var options = new WriteOptions(command);
        foreach (var option in new Option[] { To, Label, Replace, Edition, OnlyEditions, Add, Split, Part, Compression, NoDigest, Sweep })
            command.Add(option);
        command.Handle(call => Build(call, options));
        return command;
    }

    private static ExitCode Build(Invocation call, WriteOptions options)
    {
        using var target = Common.Open(call, call.GetRequiredValue(Source));
        if (target.AsImage is not { Image.Medium: not null } source)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{target.Name} is {target.Description}. 'media build' takes an ISO.");
        var brief = options.Brief.Load(call);
        target.NameMaker(options.Maker(call) ?? brief?.Maker);
        IReadOnlyCollection<Guard> guards = brief?.Guards ?? [];
        var requests = Requests(call, options, brief);
        // What is no Windows may have another label, or go.
        var systems = requests is null ? [] : Common.Read(call.Console, target, call.GetValue(Edition), guards);
        if (requests is not null && options.Brief.CheckRules(call, brief, target, systems, options.VaultPath(call)) is { } mistyped)
            return mistyped;
        bool only = call.GetValue(OnlyEditions);
        if (only && call.GetValue(Edition) is not { Length: > 0 })
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"--only-editions keeps what --edition names: {source.List()}.");
        ImmutableArray<SystemPlan> plans = requests is null ? []
            : [.. systems.Zip(requests(systems), (s, w) => new SystemPlan(s, RemovalPlanner.Plan(s, w)))];
        bool refused = plans.Any(p => p.Plan.Refused.Any());
        if (requests is not null && !plans.Any(p => p.Effective.Any() || p.Plan.Changes.Any()))
        {
            RemovalText.ShowStaying(call.Console, plans);
            const string NothingGoes = "None of the named packages would be removed from the image. Nothing was written.";
            throw refused ? new MoorfieldException(RefusalReason.Essential, NothingGoes)
                : new MoorfieldException(ErrorKind.InvalidUsage, NothingGoes);
        }
        var added = Added(call.GetValue(Add) ?? []);
        if (requests is null && !only && call.GetValue(Label) is null && added.IsEmpty && !call.GetValue(Split))
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "Say what goes (packages, options such as --origin, --brief FILE, or --only-editions), or give a --label, --add or --split.");
        var making = new MediaImageBuilder(source, requests is null ? null
            : image => Removal(image, only ? [.. Enumerable.Range(1, systems.Length)] : [.. systems.Select(s => s.EditionNumber!.Value)],
                guards, requests, brief))
        {
            Only = only ? [.. target.SelectEditions(call.GetValue(Edition) ?? []).OfType<int>().Distinct().Order()] : [],
            Part = ImageExportCommand.PartBytes(call, Part, call.GetValue(Split)),
            Compression = ImageExportCommand.CompressionOf(call, Compression),
        };
        var building = new MediaBuilder(source, call.GetRequiredValue(To), making)
        {
            Label = call.GetValue(Label),
            Added = added,
            HasDigest = !call.GetValue(NoDigest),
            Replaces = call.GetValue(Replace),
        };
        building.Check();
        return CarryOut(call, options, source, building, plans, refused);
    }

    private static ImmutableArray<MediaFile> Added(string[] texts) => [.. texts.Select(text =>
    {
        int at = text.LastIndexOf('=');
        return at > 0 && at < text.Length - 1 ? new MediaFile(text[..at], text[(at + 1)..]) : throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"'{text}' is no FILE=PATH: a file, an equals sign, and where on the medium it goes, such as answers.xml=sources/answers.xml.");
    })];

    private static RemovalOperation Removal(
        ImageTarget image, ImmutableArray<int> editions, IReadOnlyCollection<Guard> guards,
        Func<ImmutableArray<SystemSnapshot>, IEnumerable<RemovalRequest>> requests, Brief? brief) =>
        new(image, image.Read([.. editions.Select(e => (int?)e)], guards), guards, requests, brief?.Title ?? brief?.Name);

    private static Func<ImmutableArray<SystemSnapshot>, IEnumerable<RemovalRequest>>? Requests(Invocation call, WriteOptions options, Brief? brief) =>
        options.Requests(call, brief, ["newcomers"]) is not { } requests ? null
            : systems => requests(systems).Select(r => r with { Sweep = call.GetValue(Sweep) });

    private static ExitCode CarryOut(
        Invocation call, WriteOptions options, ImageTarget source, MediaBuilder building, ImmutableArray<SystemPlan> plans, bool refused)
    {
        var writer = options.Writer(call);
        string output = Path.GetFullPath(call.GetRequiredValue(To));
        var document = plans.IsEmpty ? DocumentBuilder.Plan(source, "build", [], [], null) : DocumentBuilder.Plan(source, plans);
        if (writer.IsForPeople || options.IsPreview(call))
            writer.Write(new Report(() => document, page => Show(page, call, source, building, plans, output)));
        if (options.IsPreview(call) || !options.IsConfirmed(call, SystemPlan.Costs(plans), "Build this medium?"))
            return ExitCode.Done;
        MediaBuildResult built;
        var at = new WorkProgress("Beginning", 0, null);
        using (new Ticker(call.Console, () => Ticker.Text(at)))
            built = building.Build(new WriteInterceptor(), TimeProvider.System, state => at = state, call.BeginChanging());
        writer.Write(new Report(
            () => new BuiltMediumJson("moorfield.medium/1", source.Given, source.FullPath, output, built.Bytes, built.ImageBytes, built.Parts,
                built.Sha256,
                built.Compared, document),
            page => ShowResult(page, source, output, building, built, plans)));
        return refused || built.Removal is { Failures.IsEmpty: false } ? ExitCode.DoneInPart : ExitCode.Done;
    }

    private static void Show(IReportPage page, Invocation call, ImageTarget source, MediaBuilder building, ImmutableArray<SystemPlan> plans,
        string output)
    {
        if (!plans.IsEmpty)
            RemovalText.ShowPlan(page, source, plans, handsOver: false);
        if (call.GetValue(OnlyEditions))
        {
            var only = building.Making.Only;
            page.Line($"Of the {source.Editions.Length} editions "
                + $"{TextFormat.List(only.Select(n => $"{n} ({source.Editions[n - 1].Name})"), 6)} "
                + $"{(only.Length == 1 ? "stays, as number 1" : $"stay, as numbers 1 to {only.Length}")}; the others go.");
        }
        if (call.GetValue(Label) is { } label)
            page.Line($"The label will be '{label}'; {source.Name} has '{source.Image.Medium!.Whole.Label}'.");
        if (building.Making.Converts)
        {
            page.Line($"The image is an ESD, which is not changed: it becomes a WIM on the way ({building.Making.ImagePath}). That takes "
                + $"{Minutes(source.Image.Medium!.Image.Size)}.");
        }
        if (building.Making.Part is { } part)
            page.Line($"The image is written in parts of {TextTable.Size(part)}: install.swm, install2.swm and so on.");
        foreach (var (file, path) in building.Added)
            page.Line($"{file} ({TextTable.Size(new FileInfo(file).Length)}) is added as {path}.");
        if (!plans.IsEmpty && building.Making is { Converts: false, Only.IsEmpty: true }
            && RemovalText.BytesWithout(source.Image, plans) is { } image)
        {
            var old = source.Image.Medium!.Image.Size;
            page.Line($"Image: {TextTable.Size(old)} now, about {TextTable.Size(image)} afterwards; medium: "
                + $"{TextTable.Size(new FileInfo(source.FullPath).Length)} now, about "
                + $"{TextTable.Size(new FileInfo(source.FullPath).Length - old + image)} afterwards.");
        }
        page.Line($"{output} is written, needs {TextTable.Size(building.Needs)} meanwhile, and is read back. {source.Name} is only "
            + "read.");
    }

    // 9 s for an ESD of 102 MB on two cores, a factor of two either way.
    private static string Minutes(long bytes) => bytes < 300 << 20 ? "less than a minute" : $"about {Math.Max(1, bytes / (650 << 20)):0} to "
        + $"{Math.Max(2, bytes * 4 / (1300L << 20)):0} minutes";

    /// <summary>Writes the editions of the new medium, with their former sizes.</summary>
    private static void ShowEditions(IReportPage page, ImageTarget source, string output, ImmutableArray<int> only, ImmutableArray<SystemPlan> plans)
    {
        using var fresh = ImageFile.Open(output, new WriteInterceptor());
        var old = source.Image.Editions;
        var sheet = new TextTable("Edition", "Name", "Removed", "Size", "Before").Right(0, 3, 4);
        foreach (var edition in fresh.Editions)
        {
            var before = old[only.IsEmpty ? edition.Number - 1 : only[edition.Number - 1] - 1];
            int removed = plans.Where(p => p.Snapshot.EditionNumber == before.Number).Sum(p => p.Effective.Length);
            sheet.Add($"{edition.Number}", edition.Name, removed > 0 ? TextTable.Count(removed, "package") : DisplayText.Nothing,
                TextTable.Size(edition.Bytes), TextTable.Size(before.Bytes));
        }
        page.Table(sheet);
    }

    private static void ShowResult(
        IReportPage page, ImageTarget source, string output, MediaBuilder building, MediaBuildResult built, ImmutableArray<SystemPlan> plans)
    {
        long before = new FileInfo(source.FullPath).Length;
        page.Line();
        page.Heading($"{output} is built");
        if (built.Removal is { } outcome)
            ChangeOptions.ShowProblems(page, outcome, source);
        ShowEditions(page, source, output, building.Making.Only, plans);
        if (plans.Any(p => !p.Plan.IdleFrameworks.IsEmpty))
            page.Line("Frameworks that no package needs stay (--sweep removes them).");
        page.Line($"{source.Name} has {TextTable.Size(before)}, of which the image {TextTable.Size(source.Image.Medium!.Image.Size)}; "
            + $"the new medium {TextTable.Size(built.Bytes)}, of which the image "
            + $"{TextTable.Size(built.ImageBytes)}{(built.Parts > 1 ? $" in {built.Parts} parts" : "")}.");
        page.Line($"Read back: {TextTable.Count(built.Compared, "other file")} and the ways it starts are as on the source, the image is "
            + "what was made, byte for byte.");
        if (built.Sha256 is { } digest)
            page.Verbatim($"SHA-256 {digest}");
        page.Line($"{TextFormat.Command("compare", source.FullPath, output)} shows what was removed.");
    }
}
