using Moorfield.Formats.Wim;

namespace Moorfield.StandIn;

/// <summary>The changes made to a volume.</summary>
/// <param name="LaidOut">Packages that came onto the disk.</param>
/// <param name="Registered">Registrations that were made for accounts.</param>
/// <param name="Gone">Packages that left the disk.</param>
public sealed record SimulationResult(string Build, int LaidOut, int Registered, int Gone);

/// <summary>
/// Does to a laid-out volume what the system does at a feature update and at a new account's first sign-in, in the real formats.
/// Written from docs/updates.md alone, whose rules the comments name: it is the referee of the forecast, which is other code.
/// </summary>
/// <param name="world">Which policies parts of the system honour, and which apps install themselves.</param>
public sealed class WindowsSimulator(World world)
{
    private const string Version = @"Microsoft\Windows NT\CurrentVersion";
    private const string DefaultProfile = "Default";

    /// <summary>A feature update.</summary>
    /// <param name="volume">Root folder of a laid-out volume.</param>
    /// <param name="image">A WIM that has an edition of the system's kind.</param>
    /// <exception cref="InvalidDataException">It has none, or it or the volume is damaged: the message is a sentence without its full
    /// stop.</exception>
    public SimulationResult Update(string volume, string image)
    {
        var folder = Directory.CreateTempSubdirectory("moorfield-update-");
        try
        {
            using var windows = new InstalledWindows(volume, world.Clock);
            string edition = windows.Software.Find(Version)?.Text("EditionID") ?? "";
            Naming(image, () => Extract(image, edition, folder.FullName));
            using var coming = new InstalledWindows(folder.FullName, world.Clock);
            ReplaceComponents(windows, coming);
            RenewFrameworks(windows, coming);
            Provision(windows, coming);
            RegisterProvisioned(windows);
            foreach (var account in windows.Accounts)
                Deliver(windows, account, "suggested"); // D1
            foreach (string name in new[] { "DisplayVersion", "CurrentBuild", "UBR" })
            {
                if (coming.Software.Find(Version)?.Value(name) is { } value)
                    RegistryLayout.Set(windows.Software, Version, value);
            }
            windows.Save();
            return Result(windows);
        }
        finally
        {
            folder.Delete(recursive: true);
        }
    }

    /// <summary>The first sign-in of a new account.</summary>
    /// <exception cref="InvalidDataException">No account can be called that, or one is already, or the volume is damaged.</exception>
    public SimulationResult SignIn(string volume, string name)
    {
        if (name.Length is 0 or > 20 || name.AsSpan().ContainsAny("\\/:*?\"<>|[];=,+@") || name.AsSpan().ContainsAnyInRange('\0', '\u001f')
        || name.Trim(' ', '.') != name)
            throw new InvalidDataException($"No account can be called '{name.ReplaceLineEndings(" ")}'");
        if (Directory.EnumerateDirectories(Path.Combine(volume, "Users"))
            .Any(f => Path.GetFileName(f).Equals(name, StringComparison.OrdinalIgnoreCase)))
            throw new InvalidDataException($"There is a profile '{name}' already");
        using var windows = new InstalledWindows(volume, world.Clock);
        var account = windows.AddAccount(name); // S3
        foreach (var family in windows.Packages.Where(windows.IsProvisioned).GroupBy(p => p.Family).ToList()) // S1
            windows.Register(family.MaxBy(p => p.Main.Version)!, account);
        foreach (var component in windows.Packages.Where(p => p.IsComponent && windows.IsInbox(p)).ToList()) // S2
        {
            if (!IsGuarded(windows, component, name))
                windows.Register(component, account);
        }
        foreach (string how in new[] { "suggested", "partner", "maker" }) // D1, D2
            Deliver(windows, account, how);
        Install(windows, account); // S2a
        windows.Save();
        return Result(windows);
    }

    /// <summary>Runs what is started at a first sign-in: setup programs install their desktop programs for the account.</summary>
    private void Install(InstalledWindows windows, LaidOutAccount account)
    {
        const string Current = @"Software\Microsoft\Windows\CurrentVersion", Components = @"Microsoft\Active Setup\Installed Components";
        var user = windows.UserHive(account);
        foreach (string list in new[] { "Run", "RunOnce" })
        {
            if (user.Find($@"{Current}\{list}") is not { } key)
                continue;
            foreach (var value in key.Values())
            {
                bool isOff = list == "Run" && user.Find($@"{Current}\Explorer\StartupApproved\Run")?.Value(value.Name)?.Data is { Length: > 0 } state
                    && state.Span[0] % 2 == 1;
                if (isOff || !Setup(value.AsString()))
                    continue;
                key.Remove(value.Name);
            }
        }
        foreach (var component in windows.Software.Find(Components)?.Children() ?? [])
        {
            var ran = Number(user.Find($@"Software\{Components}\{component.Name}")?.Text("Version"));
            if (ran.CompareTo(Number(component.Text("Version"))) >= 0)
                continue;
            Setup(component.Text("StubPath"));
            RegistryLayout.Set(user, $@"Software\{Components}\{component.Name}", HiveValue.FromString("Version", component.Text("Version") ?? ""));
        }

        bool Setup(string? command)
        {
            var start = world.FirstSignIn.FirstOrDefault(s =>
                s.Setup is { } setup && command?.Contains(setup, StringComparison.OrdinalIgnoreCase) == true);
            if (start?.Setup is null || !windows.HasFile(start.Setup))
                return false;
            string file = start.Setup[(start.Setup.LastIndexOf('\\') + 1)..];
            RegistryLayout.Set(user, $@"{Current}\Uninstall\{file}",
                HiveValue.FromString("DisplayName", world.Programs.FirstOrDefault(p => p.Id == file)?.Name ?? start.Name),
                HiveValue.FromString("DisplayVersion", "1.0"),
                HiveValue.FromString("InstallLocation", $@"C:\Users\{account.Profile}\AppData\Local\{start.Name}"));
            return true;
        }

        // Versions of Active Setup are written with commas.
        static System.Version Number(string? text) =>
            System.Version.TryParse(text?.Replace(',', '.'), out var version) ? version : new System.Version();
    }

    /// <summary>An account gets a package that is laid out already.</summary>
    /// <param name="name">Of the package.</param>
    /// <param name="profile">Of the account.</param>
    public void Register(string volume, string name, string profile)
    {
        using var windows = new InstalledWindows(volume, world.Clock);
        windows.Register(windows.Packages.First(p => p.Main.Name == name), windows.Accounts.First(a => a.Profile == profile));
        windows.Save();
    }

    /// <summary>
    /// A power cut just after a package was blocked: the hive is marked as being written, and the block is in its transaction log only.
    /// </summary>
    /// <returns>The family.</returns>
    /// <exception cref="InvalidDataException">The volume is damaged, or nothing is left to block.</exception>
    public string PowerCut(string volume)
    {
        using var windows = new InstalledWindows(volume, world.Clock);
        var package = windows.Packages.FirstOrDefault(p => windows.IsProvisioned(p) && !windows.IsBlocked(p.Family))
            ?? throw new InvalidDataException("Nothing is provisioned there that is not blocked");
        string path = Path.Combine(volume, "Windows/System32/config/SOFTWARE");
        byte[] before = File.ReadAllBytes(path);
        windows.Software.Create($@"{RegistryLayout.Store}\Deprovisioned\{package.Family}");
        byte[] after = windows.Software.ToArray();
        uint number = BitConverter.ToUInt32(before, 8);
        File.WriteAllBytes(path + ".LOG1", [.. LogWriter.Head(before, number), .. LogWriter.Entry(before, after, number)]);
        File.WriteAllBytes(path, LogWriter.Dirty(before));
        return package.Family.ToString();
    }

    private static SimulationResult Result(InstalledWindows windows)
    {
        var version = windows.Software.Find(Version);
        return new SimulationResult($"{version?.Text("CurrentBuild")}.{version?.Value("UBR")?.AsDWord()}", windows.Count.LaidOut,
            windows.Count.Registered, windows.Count.Gone);
    }

    /// <summary>U7 and U8.</summary>
    private void ReplaceComponents(InstalledWindows windows, InstalledWindows coming)
    {
        var old = windows.Packages.Where(p => p.IsComponent).Select(p => (
            p.Family, Entry: windows.IsInbox(p), Accounts: windows.Accounts.Where(a => windows.IsRegistered(p, a)).ToList(), Package: p)).ToList();
        old.ForEach(o => windows.Remove(o.Package));
        foreach (var component in coming.Packages.Where(p => p.IsComponent && coming.IsInbox(p)))
        {
            var before = old.Where(o => o.Family == component.Family).ToList();
            windows.LayOut(component, coming.Root);
            if (before.Exists(o => o.Entry) || !IsGuarded(windows, component, DefaultProfile))
                windows.Provision(component);
            foreach (var account in windows.Accounts)
            {
                if (before.Exists(o => o.Accounts.Contains(account)) || !IsGuarded(windows, component, account.Profile))
                    windows.Register(component, account);
            }
        }
    }

    private static void RenewFrameworks(InstalledWindows windows, InstalledWindows coming)
    {
        foreach (var framework in coming.Packages.Where(p => p.Manifest.IsFramework))
        {
            var old = windows.Packages.Where(p => p.Family == framework.Family && p.Main.Architecture == framework.Main.Architecture).ToList();
            if (old.Exists(p => p.Main.Version >= framework.Main.Version))
                continue;
            windows.LayOut(framework, coming.Root);
            foreach (var account in windows.Accounts.Where(a => old.Exists(o => windows.IsRegistered(o, a))))
                windows.Register(framework, account);
            old.ForEach(windows.Remove);
        }
    }

    /// <summary>U1, U2 and U4: what is provisioned afterwards.</summary>
    private static void Provision(InstalledWindows windows, InstalledWindows coming)
    {
        foreach (var package in coming.Packages.Where(p => !p.IsComponent && coming.IsProvisioned(p)))
        {
            if (windows.IsBlocked(package.Family))
                continue;
            var installed = InstalledVersions(windows, package.Family);
            var best = installed.MaxBy(p => p.Main.Version);
            if (best is null || best.Main.Version < package.Main.Version)
            {
                foreach (var same in windows.Packages.Where(p => p.Main == package.Main).ToList())
                    windows.Remove(same);
                windows.LayOut(package, coming.Root);
                best = package;
            }
            installed.ForEach(windows.Deprovision);
            windows.Provision(best);
        }
    }

    /// <summary>U3: everybody gets one version of what is provisioned; older ones go.</summary>
    private static void RegisterProvisioned(InstalledWindows windows)
    {
        foreach (var family in windows.Packages.Where(p => !p.IsComponent && windows.IsProvisioned(p)).Select(p => p.Family).Distinct().ToList())
        {
            if (windows.IsBlocked(family))
                continue; // U5
            var held = InstalledVersions(windows, family);
            var best = held.MaxBy(p => p.Main.Version)!;
            foreach (var account in windows.Accounts)
                windows.Register(best, account);
            foreach (var old in held.Where(p => p != best))
                windows.Remove(old);
            windows.Provision(best);
        }
    }

    /// <summary>The versions of a family that are laid out, and that somebody has or will get.</summary>
    private static List<LaidOutPackage> InstalledVersions(InstalledWindows windows, PackageFamilyName family) =>
        [.. windows.Packages.Where(p => p.Family == family && (windows.IsProvisioned(p) || windows.Accounts.Any(a => windows.IsRegistered(p, a))))];

    /// <summary>True if the policy that a part of the system honours keeps it from a profile.</summary>
    private bool IsGuarded(InstalledWindows windows, LaidOutPackage component, string profile) =>
        world.Packages.FirstOrDefault(p => p.Honours is not null && p.Name == component.Main.Name)?.Honours is { } policy
        && windows.Policy(policy.Hive == "machine" ? null : profile, policy.Key, policy.Name) == policy.Data;

    private void Deliver(InstalledWindows windows, LaidOutAccount account, string how)
    {
        const string Delivery = @"Software\Microsoft\Windows\CurrentVersion\ContentDeliveryManager";
        string own = how switch { "suggested" => "SilentInstalledAppsEnabled", "partner" => "PreInstalledAppsEnabled",
            _ => "OemPreInstalledAppsEnabled" };
        if (windows.Policy(null, @"Policies\Microsoft\Windows\CloudContent", "DisableWindowsConsumerFeatures") == 1
            || windows.Policy(account.Profile, Delivery, "ContentDeliveryAllowed") == 0
            || windows.Policy(account.Profile, Delivery, own) == 0)
        {
            return;
        }
        foreach (var package in world.Delivered.Where(d => d.How == how).Select(d => d.Package))
        {
            var name = package.FullName(world);
            if (windows.Packages.Any(p => p.Family == name.Family && windows.IsRegistered(p, account)))
                continue;
            var laidOut = windows.Packages.FirstOrDefault(p => p.Main == name) ?? LayOut(windows, package);
            windows.Register(laidOut, account);
        }
    }

    private LaidOutPackage LayOut(InstalledWindows windows, WorldPackage package)
    {
        var folder = Directory.CreateTempSubdirectory("moorfield-delivery-");
        try
        {
            VolumeBuilder.BuildPackages(world, [package], folder.FullName);
            var laidOut = LaidOutPackage.ReadAll(folder.FullName)[0];
            windows.LayOut(laidOut, folder.FullName);
            return laidOut;
        }
        finally
        {
            folder.Delete(recursive: true);
        }
    }

    /// <summary>Reads something, with errors that say what was read.</summary>
    internal static T Naming<T>(string path, Func<T> read)
    {
        try
        {
            return read();
        }
        catch (InvalidDataException e)
        {
            throw new InvalidDataException($"{path} {e.Message}", e);
        }
    }

    /// <summary>Puts what an update needs of an image into a folder.</summary>
    /// <returns>The number of the edition.</returns>
    private static int Extract(string image, string edition, string folder)
    {
        using var file = File.OpenHandle(image);
        using var wim = WimFile.Open(file);
        int number = Enumerable.Range(1, wim.Blobs.Metadata.Count).FirstOrDefault(n => wim.Xml.Image(n).EditionId == edition);
        if (number == 0)
            throw new InvalidDataException($"has no edition of the kind '{edition}'");
        var root = wim.ReadMetadata(number).Root;
        foreach (string place in LaidOutPackage.Places.Append("Windows/System32/config"))
        {
            var entry = place.Split('/').Aggregate((ImageEntry?)root, (at, name) => at?.Find(name));
            if (entry is not null)
                Extract(wim, entry, Path.Combine(folder, place));
        }
        return number;
    }

    private static void Extract(WimFile wim, ImageEntry entry, string path)
    {
        if (entry.IsReparsePoint)
            return;
        if (!entry.IsFolder)
        {
            using var file = File.OpenHandle(path, FileMode.CreateNew, FileAccess.ReadWrite);
            if (wim.Blobs.Find(entry.Content) is { } content)
                wim.CopyTo(content, file);
            return;
        }
        Directory.CreateDirectory(path);
        foreach (var child in entry.Children)
        {
            if (child.Name is "" or "." or ".." || child.Name.Contains('/', StringComparison.Ordinal))
                throw new InvalidDataException("has a file name that leads elsewhere");
            Extract(wim, child, Path.Combine(path, child.Name));
        }
    }
}
