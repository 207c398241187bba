using Moorfield.Cli.Host;
using Moorfield.Formats.Disks.BitLocker;
using Moorfield.StandIn;

namespace Moorfield.Cli.Commands;

/// <summary><c>demo</c> makes the demo data; its subcommands play on it what Windows would do.</summary>
internal static class DemoCommand
{
    private static readonly Argument<string> Folder = new("DIR") { Description = "Folder to make (default: saltmarsh)",
    DefaultValueFactory = _ => "saltmarsh" };

    private static readonly Option<bool> Disk = new("--disk") { Description = "Make counter-07.qcow2 as well, the same system as a virtual disk" };

    private static readonly Dictionary<string, EncryptionMethod> Methods = new()
    {
        ["xts-128"] = EncryptionMethod.AesXts128, ["xts-256"] = EncryptionMethod.AesXts256, ["cbc-128"] = EncryptionMethod.AesCbc128,
        ["cbc-256"] = EncryptionMethod.AesCbc256, ["diffuser-128"] = EncryptionMethod.AesCbc128Diffuser,
        ["diffuser-256"] = EncryptionMethod.AesCbc256Diffuser,
    };

    private static readonly Option<string?> BitLocker = EncryptedDisk();

    private const string Surveys = "surveys", HandOver = "hand-over", Keys = "keys";

    internal static Command Create()
    {
        var command = new Command("demo", """
            Makes the demo data, in Windows' real on-disk formats: counter-07, an installed system of the made-up Saltmarsh Ferries;
            counter-install.wim, the image with three editions that its PCs are installed from; counter-update.wim, the same of the
            coming release; briefs for them; surveys of three running counters, and a hand-over for such. Its subcommands make install media
            of the image, and play on counter-07 what Windows would do.

            Example:
              moorfield demo /tmp/saltmarsh
            """)
        { Folder, Disk, BitLocker, CreateMedia(), CreateUpdate(), CreateSignIn(), CreatePowerCut(),
            DemoFleet.Create() };
        command.Handle(Run);
        return command;
    }

    private static Option<string?> EncryptedDisk()
    {
        var option = new Option<string?>("--bitlocker")
        {
            Description = "Make counter-07-encrypted.qcow2 as well, and its keys (METHOD: " + string.Join(", ", Methods.Keys) + ")",
            HelpName = "METHOD",
            Arity = ArgumentArity.ZeroOrOne,
        };
        option.AcceptOnlyFromAmong([.. Methods.Keys]);
        return option;
    }

    private static Command CreateMedia()
    {
        var folder = new Argument<string>("DIR") { Description = "The folder that 'moorfield demo' made" };
        var large = new Option<bool>("--large") { Description = "One with a file over 4 GiB as well, which takes a minute" };
        var command = new Command("media", """
            Makes install media of counter-install.wim, by genisoimage: counter-vendor.iso, as vendors make them; counter-house.iso, as authoring
            tools do, with an ESD; counter-parts.iso, with the image in parts. They start as far as printing a line to the serial port. Also a
            recipe that builds the counters' medium of the first: counters.recipe.yaml.

            Example:
              moorfield demo media /tmp/saltmarsh
            """)
        { folder, large };
        command.Handle(call =>
        {
            string place = Path.GetFullPath(call.GetRequiredValue(folder));
            string image = Path.Combine(place, "counter-install.wim");
            if (!File.Exists(image))
            {
                throw new MoorfieldException(ErrorKind.InvalidUsage,
                    $"There is no {image}. {TextFormat.Command("demo", call.GetRequiredValue(folder))} makes it.");
            }
            bool withLarge = call.GetValue(large);
            var names = MediumBuilder.Names.Take(withLarge ? 4 : 3).ToList();
            if (names.Concat(World.RecipeNames).Select(n => Path.Combine(place, n)).FirstOrDefault(Path.Exists) is { } there)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{there} is there already. Delete it first.");
            string work = Path.Combine(place, ".media");
            if (Directory.Exists(work))
                Directory.Delete(work, recursive: true);
            Directory.CreateDirectory(work);
            try
            {
                using (new Ticker(call.Console, () => "Making media"))
                    MediumBuilder.MakeDemo(image, place, work, withLarge);
            }
            catch (IOException e)
            {
                foreach (string name in names.Concat(World.RecipeNames))
                    File.Delete(Path.Combine(place, name));
                throw new MoorfieldException(ErrorKind.Failed, e.Message, e);
            }
            finally
            {
                Directory.Delete(work, recursive: true);
            }
            call.Console.Line($"{TextFormat.List(names, 4)} are install media of counter-install.wim. "
                + $"{TextFormat.Command("image", "list", Path.Combine(place, names[0]))} shows the first.");
            return ExitCode.Done;
        });
        return command;
    }

    private static Command CreateUpdate()
    {
        var volume = new Argument<string>("VOLUME") { Description = "A volume that 'moorfield demo' made" };
        var image = new Argument<string>("IMAGE") { Description = "An image that has an edition of its kind, such as counter-update.wim" };
        var command = new Command("update", """
            Plays a feature update from an image on a made-up volume, by the rules of docs/updates.md: there is no restore point, and no undo.

            Example:
              moorfield demo update /tmp/saltmarsh/counter-07 /tmp/saltmarsh/counter-update.wim
            """)
        { volume, image };
        command.Handle(call =>
            Play(call.Console, call.GetRequiredValue(volume), call.GetRequiredValue(image), (play, path) =>
            {
                var played = play.Update(path, call.GetRequiredValue(image));
                return $"was updated to build {played.Build}{Counts(played)}";
            }));
        return command;
    }

    private static Command CreateSignIn()
    {
        var volume = new Argument<string>("VOLUME") { Description = "A volume that 'moorfield demo' made" };
        var name = new Argument<string>("NAME") { Description = "Of the account that is new" };
        var command = new Command("sign-in", """
            Plays the first sign-in of a new account on a made-up volume, by the rules of docs/updates.md: there is no restore point, and no undo.

            Example:
              moorfield demo sign-in /tmp/saltmarsh/counter-07 hazel
            """)
        { volume, name };
        command.Handle(call =>
            Play(call.Console, call.GetRequiredValue(volume), null,
                (play, path) => $"has the new account {call.GetRequiredValue(name)}{Counts(play.SignIn(path, call.GetRequiredValue(name)))}"));
        return command;
    }

    private static Command CreatePowerCut()
    {
        var volume = new Argument<string>("VOLUME") { Description = "A volume that 'moorfield demo' made" };
        var command = new Command("power-cut", """
            Leaves a made-up volume as a power cut does just after a family was blocked: only the transaction log of a hive has the block.

            Example:
              moorfield demo power-cut /tmp/saltmarsh/counter-07
            """)
        { volume };
        command.Handle(call => Play(call.Console, call.GetRequiredValue(volume), null,
            (play, path) => $"was cut off from power as {play.PowerCut(path)} was being blocked"));
        return command;
    }

    private static string Counts(SimulationResult played) => $": {TextTable.Count(played.LaidOut, "package")} laid out, "
        + $"{TextTable.Count(played.Registered, "registration")} made, {TextTable.Count(played.Gone, "package")} gone";

    private static ExitCode Run(Invocation call)
    {
        string folder = Path.GetFullPath(call.GetRequiredValue(Folder));
        string volume = Path.Combine(folder, "counter-07");
        string image = Path.Combine(folder, "counter-install.wim");
        string update = Path.Combine(folder, "counter-update.wim");
        string disk = Path.Combine(folder, "counter-07.qcow2");
        string encrypted = Path.Combine(folder, "counter-07-encrypted.qcow2"), keys = Path.Combine(folder, Keys);
        string package = Path.Combine(folder, "picture-viewer.msixbundle");
        if (World.BriefNames.Append(Surveys).Append(HandOver).Select(n => Path.Combine(folder, n))
            .Concat([volume, image, update, disk, encrypted, keys, package]).FirstOrDefault(Path.Exists) is { } there)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{there} is there already. Delete it, or name another folder.");
        ImmutableArray<string> briefs;
        try
        {
            var world = World.Load();
            Directory.CreateDirectory(folder);
            Make(call,
            [
                ("counter-install.wim", () => ImageBuilder.Build(world, world.Editions, image)),
                ("counter-update.wim", () => ImageBuilder.Build(world.Updated(), world.Editions, update)),
                ("counter-07", () =>
                {
                    VolumeBuilder.Build(world, volume);
                    PackageFileWriter.Write(volume, "Northlight.Pictures", package);
                    if (call.GetValue(Disk))
                        DiskBuilder.BuildVirtual(volume, disk);
                    if (call.Has(BitLocker))
                        WriteKeys(keys, DiskBuilder.BuildEncrypted(volume, encrypted, Methods[call.GetValue(BitLocker) ?? "xts-128"]));
                }),
            ]);
            briefs = World.WriteBriefs(folder);
            Directory.CreateDirectory(Path.Combine(folder, Surveys));
            MakeHandOver(call, briefs[0], World.WriteSurveys(Path.Combine(folder, Surveys))[0], Path.Combine(folder, HandOver));
        }
        catch (DllNotFoundException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, e.Message, e);
        }
        call.Console.Line($"{volume} is a made-up Windows volume. {TextFormat.Command("inventory", volume)} takes stock of it.");
        if (call.GetValue(Disk))
            call.Console.Line($"{disk} is the same system as a virtual disk.");
        if (call.Has(BitLocker))
        {
            call.Console.Line($"{encrypted} is the same system on an encrypted disk. "
                + $"{TextFormat.Command("inventory", encrypted, "--bitlocker-key", keys)} takes stock of it.");
        }
        call.Console.Line($"{image} is an install image of three editions. {TextFormat.Command("image", "list", image)} shows them.");
        call.Console.Line($"{update} is that of the coming release. {TextFormat.Command("forecast", volume, "--update", update)} tells what it "
            + "would bring.");
        call.Console.Line($"{package} is a package file. "
            + $"{TextFormat.Command("bring-back", volume, "Picture Viewer", "--for", "everyone", "--from", package)} gives that package "
            + "again where it was removed.");
        call.Console.Line($"{briefs[0]} is a brief. {TextFormat.Command("brief", "show", briefs[0], "--on", volume)} shows what it means there.");
        call.Console.Line($"{Path.Combine(folder, Surveys)} holds surveys of running counters. "
            + $"{TextFormat.Command("survey", Path.Combine(folder, Surveys))} lists them.");
        call.Console.Line($"{Path.Combine(folder, HandOver)} is what running machines need to carry that brief out; its plan.txt explains it.");
        return ExitCode.Done;
    }

    private static void WriteKeys(string folder, MadeKeys keys)
    {
        Directory.CreateDirectory(folder);
        File.WriteAllBytes(Path.Combine(folder, $"BitLocker Recovery Key {keys.KeyId.ToString().ToUpperInvariant()}.TXT"), keys.RecoveryText);
        File.WriteAllBytes(Path.Combine(folder, $"{keys.StartupKeyId.ToString().ToUpperInvariant()}.BEK"), keys.StartupKey);
        File.WriteAllText(Path.Combine(folder, "password.txt"), keys.Password + "\n");
    }

    private static void MakeHandOver(Invocation call, string briefPath, string survey, string folder)
    {
        using var target = Common.Open(call, survey);
        var brief = BriefOptions.Load(call.Console, briefPath, null);
        var systems = target.Read([null], brief.Guards);
        var (plan, plans) = HandOverCommand.Plan(systems, brief.For, brief, systems.Select(s => BriefPlanner.ToRequest(brief, s, [])));
        HandOverCommand.Write(target, plan, plans, folder);
    }

    /// <summary>Makes things side by side, and says what is still to come.</summary>
    private static void Make(Invocation call, IReadOnlyCollection<(string Name, Action Make)> things)
    {
        var left = things.Select(t => t.Name).ToList();
        using var watch = new Ticker(call.Console, () =>
        {
            lock (left)
                return $"Making {TextFormat.List(left)}";
        });
        try
        {
            Parallel.ForEach(things, thing =>
            {
                thing.Make();
                lock (left)
                    left.Remove(thing.Name);
            });
        }
        catch (AggregateException e)
        {
            System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(e.InnerExceptions[0]);
        }
    }

    private static ExitCode Play(IReportPage page, string path, string? image, Func<WindowsSimulator, string, string> play)
    {
        var world = World.Load();
        using (var target = Target.Open(path, new WriteInterceptor()))
        {
            if (target.Kind != "volume" || target.Read([null])[0].MachineId != world.MachineGuid)
                throw new MoorfieldException(RefusalReason.Unsupported,
                    $"{path} is not a volume that 'moorfield demo' made. Only those can play updates and sign-ins.");
        }
        if (image is not null && !File.Exists(image))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no file {image}.");
        try
        {
            string what = play(new WindowsSimulator(world), path);
            page.Line($"{Path.GetFileName(Path.TrimEndingDirectorySeparator(path))} {what}.");
            return ExitCode.Done;
        }
        catch (InvalidDataException e)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{e.Message}.", e);
        }
        catch (DllNotFoundException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, e.Message, e);
        }
    }
}
