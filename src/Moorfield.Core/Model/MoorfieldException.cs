namespace Moorfield.Core.Model;

/// <summary>The kind of a <see cref="MoorfieldException"/>, from which the exit code follows.</summary>
public enum ErrorKind
{
    /// <summary>Something could not be read or done.</summary>
    Failed = 1,

    /// <summary>The call names something that does not exist or matches several things.</summary>
    InvalidUsage = 2,

    /// <summary>It could be done, but would not be safe.</summary>
    Refused = 5,

    /// <summary>The person stopped it.</summary>
    Stopped = 130,
}

/// <summary>An error that a person can act on. The message is one or two full sentences: what, where, and what to do next.</summary>
public class MoorfieldException : Exception
{
    /// <summary>Creates an error of one kind.</summary>
    public MoorfieldException(ErrorKind kind, string message, Exception? inner = null) : base(message, inner) => Kind = kind;

    /// <summary>The kind of error.</summary>
    public ErrorKind Kind { get; }
}

/// <summary>A content that is missing from the vault, or does not match the digest that is its name.</summary>
public sealed class MissingContentException(string hash, string message, Exception? inner = null)
    : MoorfieldException(ErrorKind.Failed, message, inner)
{
    /// <summary>Its SHA-256.</summary>
    public string Hash => hash;
}
