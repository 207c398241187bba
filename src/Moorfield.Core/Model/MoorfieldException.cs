namespace Moorfield.Core.Model;

/// <summary>The kind of a <see cref="MoorfieldException"/>.</summary>
public enum ErrorKind
{
    /// <inheritdoc cref="ExitCode.Failed"/>
    Failed = ExitCode.Failed,
    /// <inheritdoc cref="ExitCode.InvalidUsage"/>
    InvalidUsage = ExitCode.InvalidUsage,
    /// <inheritdoc cref="ExitCode.Refused"/>
    Refused = ExitCode.Refused,
    /// <inheritdoc cref="ExitCode.Stopped"/>
    Stopped = ExitCode.Stopped,
}

/// <summary>An error that a person can act on. The message is one or two full sentences: what, where, and what to do next.</summary>
public class MoorfieldException : Exception
{
    /// <summary>Creates an error of one kind.</summary>
    public MoorfieldException(ErrorKind kind, string message, Exception? inner = null) : base(message, inner) => Kind = kind;

    /// <summary>The kind of error.</summary>
    public ErrorKind Kind { get; }

    /// <summary>The exit code of a call that this error ends.</summary>
    public ExitCode ExitCode => (ExitCode)Kind;
}

/// <summary>A content that is missing from the vault, or does not match the digest that is its name.</summary>
public sealed class MissingContentException(string hash, string message, Exception? inner = null)
    : MoorfieldException(ErrorKind.Failed, message, inner)
{
    /// <summary>Its SHA-256.</summary>
    public string Hash => hash;
}
