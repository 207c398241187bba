namespace Moorfield.Core.Model;

/// <summary>What kind of trouble a <see cref="MoorfieldException"/> is; the program's exit code follows from it.</summary>
public enum Trouble
{
    /// <summary>Something could not be read or done.</summary>
    Failed = 1,

    /// <summary>The call names something that is not there or fits several things.</summary>
    Misused = 2,

    /// <summary>It could be done, but would not be safe.</summary>
    Refused = 5,

    /// <summary>The person stopped it.</summary>
    Stopped = 130,
}

/// <summary>Trouble that a person can act on. The message is one or two full sentences: what, where, and what to do next.</summary>
public class MoorfieldException : Exception
{
    /// <summary>Trouble of one kind.</summary>
    public MoorfieldException(Trouble trouble, string message, Exception? inner = null) : base(message, inner) => Trouble = trouble;

    /// <summary>What kind of trouble it is.</summary>
    public Trouble Trouble { get; }
}

/// <summary>A content that a vault has lost, or has in another state than its name says.</summary>
public sealed class LostContentException(string hash, string message, Exception? inner = null) : MoorfieldException(Trouble.Failed, message, inner)
{
    /// <summary>Its SHA-256.</summary>
    public string Hash => hash;
}
