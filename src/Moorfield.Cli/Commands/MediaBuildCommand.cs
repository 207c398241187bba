using Moorfield.Cli.Host;
using Moorfield.Core.Images;

namespace Moorfield.Cli.Commands;

/// <summary><c>media build</c> makes a medium from another one, by options or by a recipe.</summary>
internal static class MediaBuildCommand
{
    private static readonly Argument<string?> Source = new("ISO")
    {
        Description = "An ISO with an install image; it is only read (default: the recipe's)",
        Arity = ArgumentArity.ZeroOrOne,
    };
    private static readonly Option<string?> To = new("--to") { Description = "The ISO to write (default: the recipe's)", HelpName = "FILE" };
    private static readonly Option<string?> RecipeFile = new("--recipe")
    {
        Description = "Recipe to follow, instead of options that say what is built",
        HelpName = "FILE",
    };
    private static readonly Option<bool> WritesProvenance = new("--provenance")
    {
        Description = "Also write RESULT.provenance.json (always with a recipe)",
    };
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

    // A recipe says everything else.
    private static readonly string[] WithRecipe =
    [
        RecipeFile.Name, To.Name, Replace.Name, WritesProvenance.Name, "--preview", "--yes", "--accept-costs", "--vault", "--format", "--lenient",
        .. new Option[]
        {
            Common.Partition, Common.BitLockerKey, Common.BackingIn, Common.Language, Common.LogFile, Common.LogFormat,
        }.Select(o => o.Name),
    ];

    internal static Command Create()
    {
        var command = new Command("build", """
            Writes a copy of an ISO without some packages: removes and blocks them in the image inside, compacts the image, leaves everything
            else as it is, and compares the result with the source. Can also change the label, drop editions, add files and split the image.
            A recipe has all of it in a file, with what is checked afterwards; 'moorfield help recipes' explains it. Exit code 4 if a check fails.

            Example:
              moorfield media build vendor.iso --to counters.iso --label COUNTERS Weather 'Larkfield.*'
              moorfield media build vendor.iso --to counters.iso --brief counters.brief.yaml --yes --accept-costs
              moorfield media build vendor.iso --to stick.iso --split --add answers.xml=answers.xml
              moorfield media build --recipe counters.recipe.yaml --yes --accept-costs
            """)
        { Source };
        var options = new WriteOptions(command);
        foreach (var option in new Option[]
        {
            RecipeFile, To, Label, Replace, Edition, OnlyEditions, Add, Split, Part, Compression, NoDigest, WritesProvenance, Sweep,
        })
            command.Add(option);
        command.Handle(call => Build(call, options));
        return command;
    }

    /// <summary>The medium to build, as options or a recipe say it.</summary>
    private sealed record Wish(string Source, string Output)
    {
        internal Brief? Brief { get; init; }

        internal string[] Editions { get; init; } = [];

        internal bool OnlyEditions { get; init; }

        internal string? Label { get; init; }

        internal ImmutableArray<MediaFile> Added { get; init; } = [];

        internal long? Part { get; init; }

        internal ExportCompression Compression { get; init; }

        internal bool Sweep { get; init; }

        internal Recipe? Recipe { get; init; }
    }

    private static Wish Read(Invocation call, WriteOptions options)
    {
        string? source = call.GetValue(Source), output = call.GetValue(To);
        if (call.GetValue(RecipeFile) is not { } file)
        {
            if (source is null || output is null)
                throw new MoorfieldException(ErrorKind.InvalidUsage, "Name an ISO and --to FILE, or a --recipe FILE.");
            return new Wish(source, output)
            {
                Brief = options.Brief.Load(call),
                Editions = call.GetValue(Edition) ?? [],
                OnlyEditions = call.GetValue(OnlyEditions),
                Label = call.GetValue(Label),
                Added = Added(call.GetValue(Add) ?? []),
                Part = ImageExportCommand.PartBytes(call, Part, call.GetValue(Split)),
                Compression = ImageExportCommand.CompressionOf(call, Compression),
                Sweep = call.GetValue(Sweep),
            };
        }
        if (options.NamesPackages(call))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "A recipe says which packages go, by its briefs. Name none.");
        if (call.GivenOptions.FirstOrDefault(o => !WithRecipe.Contains(o)) is { } foreign)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{foreign} does not go with --recipe: a recipe says everything that is built.");
        var recipe = Recipe.Load(file);
        call.UseLanguages(recipe.Languages);
        return new Wish(source ?? recipe.Resolve(recipe.Source), output ?? recipe.ResolveInside(recipe.Output))
        {
            Brief = BriefOptions.Load(call.Console, recipe),
            Editions = [.. recipe.Editions],
            OnlyEditions = recipe.OnlyEditions,
            Label = recipe.Label,
            Added = [.. recipe.Files.Select(f => new MediaFile(recipe.ResolveInside(f.File), f.Path))],
            Part = (long?)recipe.Part << 20,
            Compression = ImageExportCommand.CompressionOf(recipe.Compression),
            Sweep = recipe.Sweep,
            Recipe = recipe,
        };
    }

    private static ExitCode Build(Invocation call, WriteOptions options)
    {
        var wish = Read(call, options);
        bool hasProvenance = wish.Recipe is not null || call.GetValue(WritesProvenance);
        if (hasProvenance && call.GetValue(NoDigest))
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "A provenance names the SHA-256 of the result, so that --without-sha256 does not go with it.");
        using var target = Common.Open(call, wish.Source);
        if (target.AsImage is not { Image.Medium: not null } source)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{target.Name} is {target.Description}. 'media build' takes an ISO.");
        string? sourceDigest = wish.Recipe is null ? null : CheckedDigest(call, source, wish.Recipe);
        target.NameMaker(options.Maker(call) ?? wish.Brief?.Maker);
        IReadOnlyCollection<Guard> guards = wish.Brief?.Guards ?? [];
        var requests = Requests(call, options, wish);
        // What is no Windows may have another label, or go.
        var systems = requests is null ? [] : Common.Read(call.Console, target, wish.Editions, guards);
        if (requests is not null && options.Brief.CheckRules(call, wish.Brief, target, systems, options.VaultPath(call)) is { } mistyped)
            return mistyped;
        if (wish.OnlyEditions && wish.Editions.Length == 0)
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
        if (requests is null && !wish.OnlyEditions && wish.Label is null && wish.Added.IsEmpty && wish.Part is null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, wish.Recipe is { } empty
                ? $"{empty.FileName} changes nothing: it has no briefs, no only-editions, no label, no files and no part."
                : "Say what goes (packages, options such as --origin, --brief FILE, or --only-editions), or give a --label, --add or --split.");
        bool only = wish.OnlyEditions;
        var making = new MediaImageBuilder(source, requests is null ? null
            : image => Removal(image, only ? [.. Enumerable.Range(1, systems.Length)] : [.. systems.Select(s => s.EditionNumber!.Value)],
                guards, requests, wish.Brief))
        {
            Only = only ? [.. target.SelectEditions(wish.Editions).OfType<int>().Distinct().Order()] : [],
            Part = wish.Part,
            Compression = wish.Compression,
        };
        var building = new MediaBuilder(source, wish.Output, making)
        {
            Label = wish.Label,
            Added = wish.Added,
            HasDigest = !call.GetValue(NoDigest),
            Replaces = call.GetValue(Replace),
        };
        building.Check();
        string statement = wish.Output + Provenance.Ending;
        if (hasProvenance && !building.Replaces)
            Core.Storage.NewFile.CheckAbsent(statement);
        var writer = options.Writer(call);
        string output = Path.GetFullPath(wish.Output);
        var document = plans.IsEmpty ? DocumentBuilder.Plan(source, "build", [], [], null) : DocumentBuilder.Plan(source, plans);
        if (writer.IsForPeople || options.IsPreview(call))
        {
            writer.Write(new Report(() => document, page =>
            {
                if (wish.Recipe is { } recipe)
                    page.Line($"{recipe.Title ?? recipe.FileName}: {source.Name} has the SHA-256 that the recipe names.");
                Show(page, wish, source, building, plans, output);
            }));
        }
        if (options.IsPreview(call) || !options.IsConfirmed(call, SystemPlan.Costs(plans), "Build this medium?"))
            return ExitCode.Done;
        if (hasProvenance)
            sourceDigest ??= Digest(call, source.FullPath);
        var materials = hasProvenance ? Materials(call, wish, output, sourceDigest!) : [];
        MediaBuildResult built;
        var at = new WorkProgress("Beginning", 0, null);
        using (new Ticker(call.Console, () => Ticker.Text(at)))
            built = building.Build(new WriteInterceptor(), TimeProvider.System, state => at = state, call.BeginChanging());
        if (hasProvenance)
        {
            new Provenance(
                new NamedDigest(Path.GetFileName(output), built.Sha256!), materials, wish.Recipe?.FileName,
                wish.Recipe is null ? [.. call.Words] : [], Invocation.Version, Digest(call, Environment.ProcessPath!),
                Removed(plans, making.Only)).Write(statement, building.Replaces);
        }
        var checks = wish.Recipe is null ? [] : MediaChecks.Run(call, output, wish.Recipe, wish.Brief);
        writer.Write(new Report(
            () => new BuiltMediumJson("moorfield.medium/1", source.Given, source.FullPath, output, built.Bytes, built.ImageBytes, built.Parts,
                built.Sha256, built.Compared, document)
            {
                Provenance = hasProvenance ? Path.GetFullPath(statement) : null,
                Checks = wish.Recipe is null ? null : [.. checks.Select(c => c.ToJson())],
            },
            page =>
            {
                ShowResult(page, source, output, building, built, plans);
                if (hasProvenance)
                    page.Line($"{statement} says how it was made; {TextFormat.Command("media", "verify", wish.Output)} holds it against that.");
                foreach (var check in checks)
                    check.Show(page);
            }));
        return refused || built.Removal is { Failures.IsEmpty: false } ? ExitCode.DoneInPart
            : checks.All(c => c.Agrees) ? ExitCode.Done : ExitCode.Differs;
    }

    /// <summary>The digest of the source, which has to be the recipe's.</summary>
    private static string CheckedDigest(Invocation call, ImageTarget source, Recipe recipe)
    {
        string digest = Digest(call, source.FullPath);
        return digest == recipe.SourceSha256 ? digest : throw new MoorfieldException(RefusalReason.DigestDiffers,
            $"{source.Name} has the SHA-256 {digest}, and {recipe.FileName} wants {recipe.SourceSha256}: it is another file. Nothing was written.");
    }

    private static string Digest(Invocation call, string path)
    {
        string text = "";
        using (new Ticker(call.Console, () => text))
            return MediaVerification.HashOf(path, (name, done) => text = $"Reading {name}: {done:P0}", default);
    }

    private static ImmutableArray<NamedDigest> Materials(Invocation call, Wish wish, string output, string sourceDigest)
    {
        string folder = Path.GetDirectoryName(output)!;
        string Named(string path) => path.Contains("://", StringComparison.Ordinal) ? path
            : Path.GetRelativePath(folder, Path.GetFullPath(path)) is var near && near.StartsWith("..", StringComparison.Ordinal)
                ? Path.GetFileName(path) : near;
        var recipe = wish.Recipe;
        return
        [
            new NamedDigest(Named(wish.Source), sourceDigest),
            .. recipe is null ? Array.Empty<NamedDigest>() : [new NamedDigest(Named(recipe.Path), recipe.Sha256)],
            .. (wish.Brief?.Files ?? []).Select(f => new NamedDigest(Named(f.Place), f.Sha256)).Distinct(),
            .. wish.Added.Select(a => new NamedDigest(Named(a.File), Digest(call, a.File))),
        ];
    }

    private static ImmutableArray<EditionRemovals> Removed(ImmutableArray<SystemPlan> plans, ImmutableArray<int> only) =>
    [
        .. plans.Select(p => new EditionRemovals(
            only.IsEmpty ? p.Snapshot.EditionNumber!.Value : only.IndexOf(p.Snapshot.EditionNumber!.Value) + 1,
            p.Snapshot.Name,
            [.. p.Effective.Where(r => r.RemovesFiles).Select(r => r.Package.FullName.ToString()).Order(StringComparer.Ordinal)],
            [.. p.Plan.Programs.Where(g => !g.Entries.IsEmpty).Select(g => g.Program.Name).Order(StringComparer.Ordinal)])),
    ];

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

    private static Func<ImmutableArray<SystemSnapshot>, IEnumerable<RemovalRequest>>? Requests(Invocation call, WriteOptions options, Wish wish) =>
        options.Requests(call, wish.Brief, ["newcomers"]) is not { } requests ? null
            : systems => requests(systems).Select(r => r with { Sweep = wish.Sweep });

    private static void Show(IReportPage page, Wish wish, ImageTarget source, MediaBuilder building, ImmutableArray<SystemPlan> plans,
        string output)
    {
        if (!plans.IsEmpty)
            RemovalText.ShowPlan(page, source, plans, handsOver: false);
        if (wish.OnlyEditions)
        {
            var only = building.Making.Only;
            page.Line($"Of the {source.Editions.Length} editions "
                + $"{TextFormat.List(only.Select(n => $"{n} ({source.Editions[n - 1].Name})"), 6)} "
                + $"{(only.Length == 1 ? "stays, as number 1" : $"stay, as numbers 1 to {only.Length}")}; the others go.");
        }
        if (wish.Label is { } label)
            page.Line($"The label will be '{label}'; {source.Name} has '{source.Image.Medium!.Whole.Label}'.");
        if (building.Making.Converts)
        {
            page.Line($"The image is an ESD, which is not changed: it becomes a WIM on the way ({building.Making.ImagePath}). That takes "
                + $"{MediaCommand.Minutes(source.Image.Medium!.Image.Size)}.");
        }
        if (building.Making.Part is { } part)
            page.Line($"The image is written in parts of {TextTable.Size(part)}: install.swm, install2.swm and so on.");
        foreach (var (file, path) in building.Added)
            page.Line($"{file} ({TextTable.Size(new FileInfo(file).Length)}) is added as {path}.");
        if (ImageBytes(source, building.Making, plans) is { } image)
        {
            var old = source.Image.Medium!.Image.Size;
            page.Line($"Image: {TextTable.Size(old)} now, about {TextTable.Size(image)} afterwards; medium: "
                + $"{TextTable.Size(new FileInfo(source.FullPath).Length)} now, about "
                + $"{TextTable.Size(new FileInfo(source.FullPath).Length - old + image)} afterwards.");
        }
        page.Line($"{output} is written, needs {TextTable.Size(building.Needs)} meanwhile, and is read back. {source.Name} is only "
            + "read.");
    }

    /// <summary>Bytes that the image will have; null when it stays what it is, or that is not known.</summary>
    private static long? ImageBytes(ImageTarget source, MediaImageBuilder making, ImmutableArray<SystemPlan> plans)
    {
        if (making is { Converts: false, Only.IsEmpty: true })
            return plans.IsEmpty ? null : RemovalText.BytesWithout(source.Image, plans);
        var trees = plans.SelectMany(p => p.Plan.Changes.OfType<TreeRemoved>().Select(t => (Edition: p.Snapshot.EditionNumber!.Value, t.Path)))
            .ToLookup(t => t.Edition, t => t.Path);
        int[] editions = [.. making.Only.IsEmpty ? Enumerable.Range(1, source.Editions.Length) : making.Only];
        return ImageSizeEstimate.Of(source.Image, editions, trees, making.Converts ? making.Compression.Kind : null);
    }

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
