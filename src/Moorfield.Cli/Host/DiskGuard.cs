using System.Runtime.InteropServices;
using Moorfield.Core.Disks;
using Moorfield.Formats.Ntfs;

namespace Moorfield.Cli.Host;

/// <summary>
/// Where a disk is named, the command is carried out by a second process of this program: the NTFS library may crash on a damaged volume, or
/// not come to an end with it. docs/decisions/08-disks.md says why.
/// </summary>
internal static class DiskGuard
{
    private const string Guarded = "MOORFIELD_GUARDED";
    private const string Tunables = "GLIBC_TUNABLES"; // the GNU C Library Reference Manual, "Tunables"
    private const string LargePages = "glibc.malloc.hugetlb=1";
    private const int SignalBase = 128;
    private const int Stuck = 99;
    private static readonly int[] Crashes = [4, 6, 7, 8, 11]; // illegal instruction, abort, bus error, arithmetic, segmentation
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(7);
    private static readonly TimeSpan Interval = TimeSpan.FromMilliseconds(500);

    /// <summary>Carries a command out in a second process; null when there is no need, or this is it.</summary>
    /// <param name="keyOption">The option before a file with keys.</param>
    /// <param name="watch">Ends this process when the NTFS library does not come to an end, until it is disposed.</param>
    internal static ExitCode? Run(ConsoleOutput console, string[] arguments, string keyOption, out IDisposable? watch)
    {
        watch = null;
        if (Environment.GetEnvironmentVariable(Guarded) is { } first && first == OwnProcess.Parent)
        {
            if (!OwnProcess.EndWith(first, OwnProcess.Kill9))
                return ExitCode.Failed;
            watch = Watch();
            return null;
        }
        // A file with a key is opened where the key is needed, and nowhere else.
        string[] disks = [.. arguments.Where((a, i) =>
            !a.StartsWith('-') && !(i > 0 && arguments[i - 1] == keyOption) && DiskFile.Is(a))];
        return disks.Length == 0 || Environment.ProcessPath is not { } program ? null : Run(console, program, arguments, disks);
    }

    private static ExitCode Run(ConsoleOutput console, string program, string[] arguments, string[] disks)
    {
        var start = new ProcessStartInfo(program, arguments) { UseShellExecute = false };
        start.Environment[Guarded] = Environment.ProcessId.ToString(CultureInfo.InvariantCulture);
        // libhivex has a hive that it changes in one large piece of memory, which large pages make twice as fast to come by.
        string? tunables = Environment.GetEnvironmentVariable(Tunables);
        start.Environment[Tunables] = $"{LargePages}{(string.IsNullOrEmpty(tunables) ? "" : $":{tunables}")}";
        using var process = Process.Start(start)!;
        // A terminal tells both of an interrupt, which the second process takes for one; whoever signals this process alone means both.
        using var interrupt = PosixSignalRegistration.Create(PosixSignal.SIGINT, PassOn);
        using var end = PosixSignalRegistration.Create(PosixSignal.SIGTERM, PassOn);
        using var hangup = PosixSignalRegistration.Create(PosixSignal.SIGHUP, PassOn);
        process.WaitForExit();
        string names = $"{(disks.Length > 1 ? "One of these, " : "")}{string.Join(", ", disks.Select(Path.GetFileName))}";
        const string More = "Nothing more was done; 'moorfield inventory' says whether a run was interrupted. Have Windows check the disk (chkdsk).";
        switch (process.ExitCode)
        {
            case Stuck:
                console.Error($"{names}: the NTFS library does not come to an end with this volume, which must be damaged. {More}");
                return ExitCode.Failed;
            case > SignalBase when Crashes.Contains(process.ExitCode - SignalBase):
                console.Error($"{names}: the NTFS library broke off on this volume, which must be damaged. {More}");
                return ExitCode.Failed;
            default:
                return (ExitCode)process.ExitCode;
        }

        void PassOn(PosixSignalContext context)
        {
            context.Cancel = true;
            OwnProcess.Signal(process.Id, context.Signal switch
            {
                PosixSignal.SIGTERM => OwnProcess.Terminate, PosixSignal.SIGINT => OwnProcess.Interrupt, _ => OwnProcess.Hangup,
            });
        }
    }

    private static Timer Watch() => new(_ =>
    {
        if (NtfsVolume.BusyTime > Patience)
            Environment.Exit(Stuck);
    }, null, Interval, Interval);
}
