using System.ComponentModel;
using System.Diagnostics;
using Microsoft.Data.Sqlite;
using Moorfield.Core.Fleets;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Hives;
using Moorfield.Formats.Native;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Operations;

/// <summary>Something that Moorfield needs of the machine it runs on, and what came of trying it.</summary>
/// <param name="Use">The work that needs it.</param>
/// <param name="IsNeeded">True if most of Moorfield does not work without it.</param>
/// <param name="Version">Empty where nothing tells it.</param>
/// <param name="Path">Of the file that was loaded or started; empty for none.</param>
/// <param name="Fault">A sentence; null when it works.</param>
/// <param name="Package">The package of this distribution that has it; empty for none.</param>
public sealed record MachinePart(string Name, string Use, bool IsNeeded, string Version, string Path, string? Fault, string Package);

/// <summary>Tries by use what Moorfield needs of the machine it runs on.</summary>
public static class MachineCheck
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    /// <param name="vault">Path of the vault, which need not be there.</param>
    public static ImmutableArray<MachinePart> Try(string vault) =>
    [
        Library("OpenSSL", "everything: digests, encryption", isNeeded: true, "libssl.so", "libssl3", TryBasics),
        Library("libhivex", "every Windows: registry hives", isNeeded: true, "libhivex.so", "libhivex0", Hive.Try),
        Library("SQLite", "every Windows: the state repository; fleet stores", isNeeded: true, "libe_sqlite3.so", "", TrySqlite),
        Library("libwim", "install images: WIM and ESD", isNeeded: false, "libwim.so", "libwim15", TryCodecs),
        Library("libntfs-3g", "disks and virtual disks: NTFS", isNeeded: false, "libntfs-3g.so", "libntfs-3g89",
            () => NativeLibraries.Load("libntfs-3g.so.89") is { } why ? $"It cannot be loaded ({why})." : null),
        Program("qemu-nbd", "virtual disks: qcow2, VHDX, VHD, VMDK, VDI", OnPath("qemu-nbd"), NativeLibraries.Package("qemu-utils")),
        Program(ServerLink.Program, "fleets on a PostgreSQL server", ServerLink.Find(), ""),
        TryVault(vault),
    ];

    /// <summary>Makes sure that a target can be changed by whoever runs this, and that nothing else changes it.</summary>
    /// <exception cref="MoorfieldException">It cannot; the message says why.</exception>
    public static void CheckChangeable(Target target)
    {
        target.CheckChangeable();
        if (LibC.Access([.. Encoding.UTF8.GetBytes(target.FullPath), 0], LibC.WriteRight) != 0)
            throw new MoorfieldException(ErrorKind.Failed, $"You have no right to write {target.FullPath}.");
        target.CheckNotInUse();
    }

    private static MachinePart Library(string name, string use, bool isNeeded, string file, string package, Func<string?> attempt)
    {
        string? fault = attempt();
        string path = NativeLibraries.PathOf(file) ?? "";
        string version = path.IndexOf(".so.", StringComparison.Ordinal) is > 0 and var at ? path[(at + ".so.".Length)..] : "";
        if (NativeLibraries.AreInside)
            version = "built in";
        if (name == "SQLite" && fault is null)
            version = SqliteVersion() + (NativeLibraries.AreInside ? ", built in" : "");
        return new MachinePart(name, use, isNeeded, version, path, fault, package.Length == 0 ? "" : NativeLibraries.Package(package));
    }

    private static string? TryBasics()
    {
        try
        {
            NativeLibraries.Check();
            return null;
        }
        catch (DllNotFoundException e)
        {
            return e.Message;
        }
    }

    private static string SqliteVersion()
    {
        using var connection = new SqliteConnection("Data Source=:memory:");
        connection.Open();
        return connection.ServerVersion;
    }

    private static string? TrySqlite()
    {
        try
        {
            _ = SqliteVersion();
            return null;
        }
        catch (Exception e) when (e is TypeInitializationException or DllNotFoundException or SqliteException)
        {
            return "libe_sqlite3.so belongs in the folder of the moorfield executable, and cannot be used.";
        }
    }

    /// <summary>Compresses and decompresses a chunk by each codec.</summary>
    private static string? TryCodecs()
    {
        const int ChunkSize = 1 << 15;
        byte[] plain = Encoding.UTF8.GetBytes(string.Concat(Enumerable.Repeat("berth seven ", ChunkSize / 12)));
        try
        {
            foreach (var compression in new[] { WimCompression.Xpress, WimCompression.Lzx, WimCompression.Lzms })
            {
                using var codec = new Codec(compression, ChunkSize);
                byte[] stored = new byte[ChunkSize], read = new byte[plain.Length];
                int length = codec.Compress(plain, stored);
                codec.Decompress(stored.AsSpan(0, length), read);
                if (length == 0 || !read.AsSpan().SequenceEqual(plain))
                    return $"{compression} does not give back what it took.";
            }
            return null;
        }
        catch (Exception e) when (e is DllNotFoundException or InvalidDataException or IOException)
        {
            return e.Message;
        }
    }

    private static string? OnPath(string name) =>
        (Environment.GetEnvironmentVariable("PATH") ?? "").Split(':').Select(f => System.IO.Path.Combine(f, name)).FirstOrDefault(File.Exists);

    private static MachinePart Program(string name, string use, string? path, string package)
    {
        string version = "";
        string? fault = path is null ? $"There is no {name}{(package.Length == 0 ? " in the folder of moorfield" : "")}." : null;
        if (path is not null)
        {
            try
            {
                var start = new ProcessStartInfo(path, "--version")
                {
                    UseShellExecute = false, RedirectStandardOutput = true, RedirectStandardError = true,
                };
                using var process = Process.Start(start)!;
                string said = process.StandardOutput.ReadToEnd();
                if (!process.WaitForExit(Patience) || process.ExitCode != 0)
                    fault = $"{path} cannot be used: it ended with {process.ExitCode}.";
                version = said.Split('\n')[0].Split(' ').FirstOrDefault(w => w.Length > 0 && char.IsAsciiDigit(w[0])) ?? "";
            }
            catch (Exception e) when (e is Win32Exception or InvalidOperationException)
            {
                fault = $"{path} cannot be started: {e.Message}.";
            }
        }
        return new MachinePart(name, use, false, version, path ?? "", fault, package);
    }

    /// <summary>Looks whether restore points can be written to a vault, which is not made.</summary>
    private static MachinePart TryVault(string vault)
    {
        string place = vault;
        while (!Directory.Exists(place) && System.IO.Path.GetDirectoryName(place) is { } above)
            place = above;
        string? fault = Folder.Try(place);
        string free = $"{TextFormat.Size(new DriveInfo(place).AvailableFreeSpace)} free";
        return new MachinePart("vault", "restore points: every change", false, free, vault, fault, "");
    }
}
