namespace Moorfield.Core.Model;

/// <summary>The exit code of the program.</summary>
public enum ExitCode
{
    /// <summary>Everything was done, or there was nothing to do.</summary>
    Done = 0,
    /// <summary>Something could not be read or done.</summary>
    Failed = 1,
    /// <summary>The command line names something that does not exist or is ambiguous.</summary>
    InvalidUsage = 2,
    /// <summary>Part of it was done.</summary>
    DoneInPart = 3,
    /// <summary>A target differs from what it was compared with.</summary>
    Differs = 4,
    /// <summary>It could be done, but would not be safe.</summary>
    Refused = 5,
    /// <summary>A person stopped it.</summary>
    Stopped = 130,
}
