using Moorfield.Cli.Host;
using Moorfield.Core.Images;
using Moorfield.Formats.Media;

namespace Moorfield.Cli.Commands;

/// <summary><c>media</c> makes install media from others.</summary>
internal static class MediaCommand
{
    internal static Command Create() => new("media", "Builds install media.")
    {
        MediaBuildCommand.Create(), MediaVerifyCommand.Create(), CreateFolder(), CreateLabel(),
    };

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

    // 9 s for an ESD of 102 MB on two cores, a factor of two either way.
    internal static string Minutes(long bytes) => bytes < 300 << 20 ? "less than a minute" : $"about {Math.Max(1, bytes / (650 << 20)):0} to "
        + $"{Math.Max(2, bytes * 4 / (1300L << 20)):0} minutes";
}
