using Moorfield.Core.Images;
using Moorfield.Core.Reading;
using Moorfield.Formats.Media;
using Moorfield.Formats.Wim;

namespace Moorfield.Cli.Commands;

internal static class ImageCommand
{
    private const int MaxName = 200;

    internal static Command Create() =>
    new("image", "Lists, changes and converts image files (WIM, ESD).")
    {
        CreateList(), CreateCompact(), CreateDrop(), CreateRename(), ImageExportCommand.CreateConvert(),
        ImageExportCommand.CreateExport(), ImageExportCommand.CreateSplit(), ImageExportCommand.CreateJoin(),
    };

    private static Argument<string> File() => new("FILE") { Description = "A WIM or ESD file, or an ISO with one" };

    private static Command CreateList()
    {
        var path = File();
        var format = Common.Format(hasRows: true);
        var command = new Command("list", """
            Lists the editions of an image file and its properties.

            Example:
              moorfield image list counter-install.wim
            """)
        { path, format };
        command.Handle(call =>
        {
            using var target = Open(call.GetRequiredValue(path), new WriteInterceptor());
            var editions = Read(target);
            call.Write(format, new Report(
            () => Document(target.Given, target.Image, editions),
            page =>
            {
                    Write(page, target.Image, editions);
                },
            () => new ReportRows(["number", "name", "description", "product", "editionId", "build", "architecture", "languages", "bytes", "files",
                        "provisioned"],
                        editions.Select(e => new[]
                        {
                            Text(e.Number), e.Name, e.Description, e.Product, e.EditionId, e.Build, e.Architecture, string.Join(' ', e.Languages),
                            Text(e.Bytes), Text(e.Files),
                            e.Provisioned is { } count ? Text(count) : "",
                        }))));
            return ExitCode.Done;
        });
        return command;
    }

    internal static ImageTarget Open(string path, WriteInterceptor interceptor)
    {
        var target = Target.Open(path, interceptor);
        if (target.AsImage is { } image)
            return image;
        target.Dispose();
        throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is not an image file. {TextFormat.Command("inventory", path)} takes stock of a "
            + "volume.");
    }

    /// <summary>Facts from the XML data, and from each edition's own registry where it can be read.</summary>
    private static List<EditionJson> Read(ImageTarget target)
    {
        var infos = target.Image.Editions;
        return [.. target.Image.ForEach([.. infos.Select(i => (int?)i.Number)], number =>
        {
            var info = infos[number!.Value - 1];
            var (system, problem) = Look(target, number.Value);
            return new EditionJson(
                info.Number, info.Name, info.Description, system?.Product is { Length: > 0 } product ? $"{product} {system.Release}".Trim()
                : info.ProductName, info.EditionId,
                system?.Build is { Length: > 0 } build ? build : info.Version, info.Architecture, info.Languages, info.Bytes, info.Files,
                system?.Provisioned, problem);
        })];
    }

    // An edition need not hold a Windows: boot images do not.
    private static (SystemSummary? System, string? Problem) Look(ImageTarget target, int number)
    {
        try
        {
            return (target.Image.With(number, SystemReader.Summarize), null);
        }
        catch (MoorfieldException e)
        {
            return (null, e.Message);
        }
    }

    private static void Write(IReportPage page, ImageFile image, List<EditionJson> editions)
    {
        var header = image.Wim.Header;
        var sheet = new TextTable("Edition", "Name", "Product", "Build", "Architecture", "Languages", "Size", "Provisioned").Right(0, 6, 7).Quiet(3);
        foreach (var edition in editions)
        {
            sheet.Add(
                Text(edition.Number), edition.Name, edition.Product, edition.Build, edition.Architecture, DisplayText.OrNothing(edition.Languages),
                TextTable.Size(edition.Bytes), edition.Provisioned is { } count ? TextTable.Count(count, "package") : DisplayText.Nothing);
        }
        if (editions.Count > 0)
            page.Table(sheet);
        foreach (var edition in editions.Where(e => e.Problem is not null))
            page.Line($"Edition {edition.Number}: {edition.Problem}");
        if (image.Medium is { } medium)
            WriteMedium(page, image, medium);
        Fact(page, "File", $"{TextTable.Size(image.Wim.Length)}, "
            + $"{TextTable.Count(editions.Count, "edition")}{(header.BootIndex > 0 ? $", number {header.BootIndex} starts" : "")}");
        Fact(page, "Compression", Compression(header));
        Fact(page, "Version", header.IsSolidVersion ? "0xE00, with contents compressed together (ESD)" : "0x10D00, the usual one");
        Fact(page, "Split", !header.IsSplit ? "no, one file" : image.Wim.IsComplete ? $"in {header.Parts} parts"
            : $"part {header.Part} of {header.Parts}");
        Fact(page, "Integrity", header.Integrity.IsNone ? "no integrity table" : "has an integrity table");
        Fact(page, "Identifier", header.Guid.ToString());
        Fact(page, "Compacting", image.Reclaimable() is > 0 and var bytes ? $"would give back {TextTable.Size(bytes)}" : "would give back nothing");
        if (image.ReadOnlyReason() is { } why)
            page.Line($"{image.Name} can be read, but not changed: it {why}.");

    }

    private static void Fact(IReportPage page, string name, string text) => page.Line($"{name,-12} {text}");

    /// <summary>Writes the properties of an ISO, in addition to those of its image.</summary>
    private static void WriteMedium(IReportPage page, ImageFile image, MediaImage medium)
    {
        const int Largest = 3;
        var whole = medium.Whole;
        Fact(page, "Medium", $"{(whole.Label.Length > 0 ? $"'{whole.Label}'" : "no label")}, {TextTable.Size(new FileInfo(image.FullPath).Length)}, "
            + $"{TextTable.Count(whole.Entries.Count(e => !e.IsFolder), "file")} (views: {string.Join(", ", whole.Views)})");
        Fact(page, "Starts", whole.Boot.IsEmpty ? "no machine" : TextFormat.List(whole.Boot.Select(b => $"{Firmware(b.Platform)} (block {b.Block})"),
            4));
        Fact(page, "Image", $"{medium.Image.Path}, {TextTable.Size(medium.Image.Size)}");
        Fact(page, "Largest", string.Join(", ", whole.Entries.Where(e => !e.IsFolder).OrderByDescending(e => e.Size)
            .ThenBy(e => e.Path, StringComparer.Ordinal)
            .Take(Largest).Select(e => $"{e.Path} ({TextTable.Size(e.Size)})")));
    }

    private static string Firmware(BootPlatform platform) => platform switch
    {
        BootPlatform.Bios => "BIOS",
        BootPlatform.Uefi => "UEFI",
        _ => $"platform {(int)platform}",
    };

    private static string Compression(WimHeader header) => header.IsSolidVersion ? "as a whole"
        : header.Compression == WimCompression.None ? "none"
            : $"{header.Compression.ToString().ToUpperInvariant()} in chunks of {header.ChunkSize / 1024} KB";

    private static ImageJson Document(string given, ImageFile image, List<EditionJson> editions)
    {
        var header = image.Wim.Header;
        return new ImageJson(
            "moorfield.image/1", given, image.FullPath, [.. editions], header.Compression.ToString().ToLowerInvariant(), header.ChunkSize,
            header.IsSolidVersion ? "solid" : "normal",
            header.Part, header.Parts, !header.Integrity.IsNone, header.BootIndex, header.Guid.ToString(), image.Wim.Length, image.Reclaimable(),
            image.ReadOnlyReason() is null, image.Medium is not { } medium ? null : new MediumJson(
                medium.Whole.Label, medium.Whole.Views, [.. medium.Whole.Boot.Select(b => new BootJson(Firmware(b.Platform), b.Block, b.Sectors))],
                medium.Image.Path, medium.Place.Offset, new FileInfo(image.FullPath).Length,
                [.. medium.Whole.Entries.Where(e => !e.IsFolder).Select(e => new MediumFileJson(e.Path, e.Size))]));
    }

    private static Command CreateDrop()
    {
        var (path, edition) = (File(), Common.Edition());
        var command = new Command("drop", """
            Deletes editions from an image file; the others get new numbers. 'image compact' gives back the space, after which undo is not possible.

            Example:
              moorfield image drop counter-install.wim --edition 'Counter Home'
            """)
        { path, edition };
        var options = new ChangeOptions(command, writesHives: false);
        command.Handle(call =>
        {
            using var target = Open(call.GetRequiredValue(path), call.Progress.Interceptor);
            if (call.GetValue(edition) is not { Length: > 0 } words)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"Name the editions to delete with --edition: {target.List()}.");
            var dropped = target.SelectEditions(words).OfType<int>().Distinct().Order().Select(n => target.Image.Editions[n - 1]).ToList();
            if (dropped.Count == target.Image.Editions.Length)
                throw new MoorfieldException(RefusalReason.Essential, $"These are all editions of {target.Name}; at least one must stay.");
            string names = TextFormat.List(dropped.Select(d => d.Name), 3);
            return Change(call, options, target, "drop", $"drop {names}", () => [.. dropped.Select(d => new EditionDropped(d.Number, d.Name))],
                page =>
                {
                    foreach (var info in target.Image.Editions)
                    {
                        int before = dropped.Count(d => d.Number < info.Number);
                        bool goes = dropped.Any(d => d.Number == info.Number);
                        page.Line($"Edition {info.Number} ({info.Name}) {(goes ? "goes" : $"stays, as number {info.Number - before}")}.");
                    }
                    if (target.Image.Wim.Header.BootIndex is > 0 and var boot && dropped.Any(d => d.Number == boot))
                        page.Line($"Edition {boot} is the boot edition; afterwards the file has no boot edition.");
                },
                $"{target.Name} has {TextTable.Count(target.Image.Editions.Length - dropped.Count, "edition")} now, without {names}. "
                    + "'moorfield image compact' gives the space back.");
        });
        return command;
    }

    private static Command CreateRename()
    {
        var (path, edition) = (File(), Common.Edition());
        var name = new Option<string?>("--name") { Description = "Name that setup shows", HelpName = "TEXT" };
        var description = new Option<string?>("--description") { Description = "Description that setup shows", HelpName = "TEXT" };
        var command = new Command("rename", """
            Renames an edition of an image file, or changes its description.

            Example:
              moorfield image rename counter-install.wim --edition 2 --name 'Counter Pro 2026'
            """)
        { path, edition, name, description };
        var options = new ChangeOptions(command, writesHives: false);
        command.Handle(call =>
        {
            using var target = Open(call.GetRequiredValue(path), call.Progress.Interceptor);
            var (newName, newDescription) = (call.GetValue(name), call.GetValue(description));
            if (target.SelectEditions(call.GetValue(edition) ?? []) is not [{ } number])
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"Name one edition with --edition: {target.List()}.");
            if (newName is null && newDescription is null)
                throw new MoorfieldException(ErrorKind.InvalidUsage, "Give a --name, a --description, or both.");
            foreach (string? text in new[] { newName, newDescription })
            {
                if (text is not null && (text.Trim() != text || text.Length > MaxName || text.Any(char.IsControl) || text.Any(c => c > '\uFFFD')))
                    throw new MoorfieldException(ErrorKind.InvalidUsage, $"A name has at most {MaxName} letters and no leading or trailing spaces.");
            }
            if (newName is { Length: 0 } || target.Image.Editions.Any(e => e.Number != number
                && e.Name.Equals(newName, StringComparison.OrdinalIgnoreCase)))
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"The name must not be empty or that of another edition: {target.List()}.");
            var old = target.Image.Editions[number - 1];
            if ((newName ?? old.Name, newDescription ?? old.Description) == (old.Name, old.Description))
            {
                call.Console.Notice($"Edition {number} has that name already. Nothing was changed.");
                return ExitCode.Done;
            }
            var change = new EditionRenamed(number, old.Name, newName ?? old.Name, old.Description, newDescription ?? old.Description);
            return Change(call, options, target, "rename", $"rename {old.Name}", () => [change],
                page =>
                {
                    Show(page, "Name", change.NameBefore, change.NameAfter);
                    Show(page, "Description", change.DescriptionBefore, change.DescriptionAfter);
                },
                $"Edition {number} of {target.Name} is '{change.NameAfter}' now.");
        });
        return command;

        static void Show(IReportPage page, string what, string before, string after)
        {
            if (before != after)
                page.Line($"{what} of the edition: '{before}' becomes '{after}'.");
        }
    }

    private static ExitCode Change(
        Invocation call, ChangeOptions options, ImageTarget target, string action, string title, Func<ImmutableArray<ImageChange>> changes,
        Action<IReportPage> show, string result)
    {
        if (!options.IsPreview(call))
            target.AcquireForChange();
        var changing = new EditionOperation(target, title, changes);
        target.Image.CheckChangeable();
        var proposal = changing.Plan();
        return options.CarryOut(call, changing, proposal, DocumentBuilder.Plan(target, action, [], proposal.Request.Changes, null), page =>
        {
            show(page);
            if (options.HasRestorePoint(call))
                page.Line("This can be undone until something else changes the file or it is compacted.");
        }, (page, _) => page.Line(result));
    }

    private static Command CreateCompact()
    {
        var path = File();
        var to = new Option<string?>("--to") { Description = "Write the smaller image to this file instead", HelpName = "FILE" };
        var command = new Command("compact", """
            Gives back the space of removed files, by copying the rest as it is stored.

            Example:
              moorfield image compact counter-install.wim
            """)
        { path, to };
        var options = new ChangeOptions(command, records: false);
        command.Handle(call =>
        {
            using var target = Open(call.GetRequiredValue(path), call.Progress.Interceptor);
            var image = target.Image;
            string? copy = call.GetValue(to);
            bool inPlace = copy is null;
            if (inPlace && !options.IsPreview(call))
                target.AcquireForChange();
            using var vault = inPlace ? Vault.OpenExisting(options.VaultPath(call)) : null;
            var compacting = new CompactOperation(target, copy, vault, call.Console.Error);
            var proposal = compacting.Plan();
            var document = DocumentBuilder.Plan(target, proposal);
            long before = image.Wim.Length;
            string result = proposal.Copy ?? image.FullPath;
            if (!proposal.HasEffect)
            {
                options.Writer(call).Write(new Report(() => document, _ => { }));
                call.Console.Notice($"{image.Name} has no space to give back. Nothing was changed.");
                return ExitCode.Done;
            }
            return options.CarryOut(
                call, compacting, proposal, document,
                page => ShowPreview(page, image, proposal, vault),
                (page, _) => page.Line($"{Path.GetFileName(result)} has {TextTable.Size(new FileInfo(result).Length)} now; {image.Name} "
                    + $"{(inPlace ? "had" : "has")} {TextTable.Size(before)}."),
                changesTarget: inPlace, size: () => new FileInfo(result).Length);
        });
        return command;
    }

    /// <summary>Says what compacting gives back, and what it ends when it is done in place.</summary>
    private static void ShowPreview(IReportPage page, ImageFile image, CompactProposal proposal, Vault? vault)
    {
        page.Line($"Compacting {image.Name} gives back {TextTable.Size(proposal.Bytes)}.");
        if (proposal.Copy is not null)
            return;
        page.Line("Afterwards earlier runs can no longer be undone as a whole.");
        var (runs, lost) = (proposal.Runs.Length, proposal.Lost.Length);
        if (runs > 0)
        {
            page.Line(lost == 0
                ? $"{TextTable.Count(runs, "run")} on it in {vault!.FullPath} can still be undone afterwards, change by change."
                : $"Of {TextTable.Count(runs, "run")} on it in {vault!.FullPath}, {runs - lost} can still be undone afterwards, change by change; "
                    + $"the files of the others are lost for good.");
        }
    }

    private static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);
}
