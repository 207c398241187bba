using Moorfield.Cli.Host;
using Moorfield.Core.Images;
using Moorfield.Formats.Wim;

namespace Moorfield.Cli.Commands;

/// <summary>Commands that write image files again, which is libwim's job: convert, export, split, join.</summary>
internal static class ImageExportCommand
{
    private const int UsualPart = (int)(MediaImageBuilder.UsualPart >> 20);

    private static Argument<string> Source() => new("FILE") { Description = "A WIM or ESD file; it is only read" };

    private static Option<string> ToFile() => new("--to") { Description = "File to create", HelpName = "FILE", Required = true };

    internal static Option<string> Compression(string whose = "Compression of the new file")
    {
        var option = new Option<string>("--compression")
        {
            Description = $"{whose}: lzx (default), lzx-thorough, xpress, none",
            DefaultValueFactory = _ => "lzx",
            HelpName = "HOW",
        };
        option.AcceptOnlyFromAmong("lzx", "lzx-thorough", "xpress", "none");
        return option;
    }

    internal static Command CreateConvert()
    {
        var (source, to, compression, format) = (Source(), ToFile(), Compression(), Common.Format());
        var command = new Command("convert", """
            Writes all editions of an image file into a new WIM, which can be changed; an ESD cannot. About 90 MB of memory are needed.

            Example:
              moorfield image convert install.esd --to install.wim
            """)
        { source, to, compression, format };
        command.Handle(call => Write(call, format, "convert", call.GetRequiredValue(source), [], call.GetRequiredValue(to),
            CompressionOf(call, compression)));
        return command;
    }

    internal static Command CreateExport()
    {
        var (source, to, compression, edition, format) = (Source(), ToFile(), Compression(), Common.Edition(), Common.Format());
        var command = new Command("export", """
            Writes some editions of an image file into a new WIM, in the order in which they are named. About 90 MB of memory are needed.

            Example:
              moorfield image export counter-install.wim --edition 'Counter Pro' --to pro.wim
            """)
        { source, edition, to, compression, format };
        command.Handle(call => Write(call, format, "export", call.GetRequiredValue(source), call.GetValue(edition) ?? [], call.GetRequiredValue(to),
            CompressionOf(call, compression)));
        return command;
    }

    internal static ExportCompression CompressionOf(Invocation call, Option<string> option) => CompressionOf(call.GetRequiredValue(option));

    internal static ExportCompression CompressionOf(string name) => name switch
    {
        "xpress" => new(WimCompression.Xpress),
        "none" => new(WimCompression.None),
        "lzx-thorough" => new(WimCompression.Lzx, IsThorough: true),
        _ => new(WimCompression.Lzx),
    };

    internal static Option<int> Part() => new("--part")
    {
        Description = $"MiB of a part (default: {UsualPart}, for FAT32); one large content may need more",
        DefaultValueFactory = _ => UsualPart,
        HelpName = "MIB",
    };

    /// <summary>Bytes of a part; null when the image is to stay whole.</summary>
    internal static long? PartBytes(Invocation call, Option<int> part, bool splits)
    {
        int mebibytes = call.GetValue(part);
        if (mebibytes < 1)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--part takes 1 or more.");
        return splits ? (long)mebibytes << 20 : null;
    }

    private static ExitCode Write(
        Invocation call, Option<string> format, string action, string path, string[] editions, string output, ExportCompression compression)
    {
        using var target = Open(path);
        var numbers = editions.SelectMany(e => target.SelectEditions([e])).OfType<int>().Distinct().ToList();
        Watched(call, $"Writing {Path.GetFileName(output)}", (progress, stop) =>
        {
            ImageExport.Write(target.FullPath, target.Name, numbers, output, compression,
                !target.Image.Wim.Header.Integrity.IsNone, new WriteInterceptor(), progress, stop);
            return 0;
        });
        using var fresh = ImageFile.Open(output, new WriteInterceptor());
        call.WriteDone(format, DocumentBuilder.Done($"image {action}", target.Given, target.FullPath, [output], bytes: fresh.Wim.Length),
            $"{output} has {TextTable.Count(fresh.Editions.Length, "edition")} and {TextTable.Size(fresh.Wim.Length)}; "
            + $"{target.Name} has "
            + $"{TextTable.Count(target.Image.Editions.Length, "edition")} and {TextTable.Size(target.Image.Wim.Length)}.");
        return ExitCode.Done;
    }

    /// <summary>Does something long, and says how far it is.</summary>
    private static T Watched<T>(Invocation call, string what, Func<Action<long, long>, CancellationToken, T> work)
    {
        var at = new WorkProgress(what, 0, null);
        var meter = new ProgressEstimator([(what, 1)], TimeProvider.System, state => at = state);
        using (new Ticker(call.Console, () => Ticker.Text(at)))
        {
            meter.Next();
            return work(meter.At, call.BeginChanging());
        }
    }

    private static Core.Targets.ImageTarget Open(string path)
    {
        var target = ImageCommand.Open(path, new WriteInterceptor());
        return target.Image.Medium is null ? target : throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"{target.Name} is a medium. Copy {target.Image.Medium.Image.Path} out of it first, or use 'moorfield media build'.");
    }

    internal static Command CreateSplit()
    {
        var source = Source();
        var to = new Option<string>("--to") { Description = "First part, such as install.swm; the others are named after it", HelpName = "FILE",
            Required = true };
        var (part, format) = (Part(), Common.Format());
        var command = new Command("split", """
            Writes an image file in parts, for file systems that take small files only. About 60 MB of memory are needed.

            Example:
              moorfield image split install.wim --to install.swm
            """)
        { source, to, part, format };
        command.Handle(call =>
        {
            using var target = Open(call.GetRequiredValue(source));
            if (target.Image.Wim.Header.IsSolidVersion)
                throw new MoorfieldException(RefusalReason.Unsupported, $"{target.Name} is an ESD, which cannot be split. "
                    + "'moorfield image convert' makes a WIM of it.");
            long bytes = PartBytes(call, part, splits: true)!.Value;
            var parts = Watched(call, "Splitting", (progress, stop) =>
                ImageExport.Split(target.FullPath, target.Name, call.GetRequiredValue(to), bytes, new WriteInterceptor(), progress, stop));
            call.WriteDone(format,
                DocumentBuilder.Done("image split", target.Given, target.FullPath, parts, bytes: parts.Sum(p => new FileInfo(p).Length)),
                $"{target.Name} is split into {TextTable.Count(parts.Length, "part")}: "
                + $"{TextFormat.List(parts.Select(p => Path.GetFileName(p)), 6)}.");
            return ExitCode.Done;
        });
        return command;
    }

    internal static Command CreateJoin()
    {
        var first = new Argument<string>("FILE") { Description = "First part; the others are in the same folder" };
        var (to, format) = (ToFile(), Common.Format());
        var command = new Command("join", """
            Writes the parts of a split image file as one. About 60 MB of memory are needed.

            Example:
              moorfield image join install.swm --to install.wim
            """)
        { first, to, format };
        command.Handle(call =>
        {
            string path = call.GetRequiredValue(first);
            RegularFile.CheckNamed(path);
            Watched(call, "Joining", (progress, stop) =>
            {
                ImageExport.Join(path, call.GetRequiredValue(to), new WriteInterceptor(), progress, stop);
                return 0;
            });
            string whole = call.GetRequiredValue(to);
            long bytes = new FileInfo(whole).Length;
            call.WriteDone(format, DocumentBuilder.Done("image join", path, Path.GetFullPath(path), [whole], bytes: bytes),
                $"{whole} has {TextTable.Size(bytes)}.");
            return ExitCode.Done;
        });
        return command;
    }
}
