using System.Runtime.InteropServices;

namespace Moorfield.Cli.Host;

/// <summary>Processes of this program that belong together. [prctl(2), getppid(2), kill(2)]</summary>
internal static class OwnProcess
{
    /// <summary>A signal's number.</summary>
    internal const int Hangup = 1, Interrupt = 2, Kill9 = 9, Terminate = 15;

    // Says to a process that it is one of several, and which process leads them.
    private const string OneOfSeveral = "MOORFIELD_ONE_OF_SEVERAL";
    // Says to a process that it has to ask before it changes something.
    private const string Asks = "MOORFIELD_ASKS";

    /// <summary>ENQ and ACK of ASCII, as lines.</summary>
    internal const string Enquiry = "\u0005", Acknowledgement = "\u0006";

    private const int SetParentDeathSignal = 1;

    /// <summary>True in a process that is one of several: a Ctrl-C is for the one that leads them.</summary>
    internal static bool IsOneOfSeveral => Environment.GetEnvironmentVariable(OneOfSeveral) is not null;

    /// <summary>Makes a process that is to be started one of several, which this one leads.</summary>
    internal static void Lead(ProcessStartInfo start) =>
        start.Environment[OneOfSeveral] = Environment.ProcessId.ToString(CultureInfo.InvariantCulture);

    /// <summary>Has one of several end with the one that leads them, where that is safe.</summary>
    /// <returns>False if that has ended already.</returns>
    internal static bool Join() =>
        Environment.GetEnvironmentVariable(OneOfSeveral) is not { } leader || leader != Parent || EndWith(leader, Terminate);

    /// <summary>Has one of several ask the one that leads it before it changes something: see <see cref="MayChange"/>.</summary>
    internal static void LeadAsking(ProcessStartInfo start)
    {
        Lead(start);
        start.Environment[Asks] = "1";
    }

    /// <summary>
    /// Asks the process that leads this one, where it wants to be asked, whether a target may be changed now: a line with the enquiry character on
    /// standard error, which no text from a target can hold, and a line with the one for acknowledgement on standard input.
    /// </summary>
    internal static bool MayChange()
    {
        if (Environment.GetEnvironmentVariable(Asks) is null)
            return true;
        Console.Error.WriteLine(Enquiry);
        return Console.In.ReadLine() == Acknowledgement;
    }

    /// <summary>The process that started this one.</summary>
    internal static string Parent => ParentProcess().ToString(CultureInfo.InvariantCulture);

    /// <summary>Has this process told when the one that started it ends, or rather the thread that did.</summary>
    /// <param name="parent">That process, which may have ended before this was asked for.</param>
    /// <returns>False if it has.</returns>
    internal static bool EndWith(string parent, int signal)
    {
        _ = ProcessControl(SetParentDeathSignal, signal, 0, 0, 0);
        return parent == Parent;
    }

    internal static void Signal(int process, int signal) => _ = Kill(process, signal);

    [DllImport("libc.so.6", EntryPoint = "prctl")]
    [DefaultDllImportSearchPaths(DllImportSearchPath.System32)]
    private static extern int ProcessControl(int option, nint signal, nint unused3, nint unused4, nint unused5);

    [DllImport("libc.so.6", EntryPoint = "getppid")]
    [DefaultDllImportSearchPaths(DllImportSearchPath.System32)]
    private static extern int ParentProcess();

    [DllImport("libc.so.6", EntryPoint = "kill")]
    [DefaultDllImportSearchPaths(DllImportSearchPath.System32)]
    private static extern int Kill(int process, int signal);
}
