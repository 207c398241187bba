namespace Moorfield.Core.Model;

/// <summary>How a call of the program ends, for whoever called it.</summary>
public enum ExitCode
{
    /// <summary>Everything was done, or there was nothing to do.</summary>
    Done = 0,

    /// <summary>Something could not be read or done.</summary>
    Failed = 1,

    /// <summary>The call names something that does not exist or matches several things.</summary>
    InvalidUsage = 2,

    /// <summary>Part of it was done.</summary>
    DoneInPart = 3,

    /// <summary>A target is not as it was asked whether it is.</summary>
    Differs = 4,

    /// <summary>It could be done, but would not be safe.</summary>
    Refused = 5,

    /// <summary>A person stopped it.</summary>
    Stopped = 130,
}
