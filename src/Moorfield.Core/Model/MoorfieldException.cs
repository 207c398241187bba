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

/// <summary>Why something was refused for safety. Stable, for programs; docs/json.md lists them.</summary>
public enum RefusalReason
{
    /// <summary>A tool or format cannot do this.</summary>
    Unsupported,
    /// <summary>The system, or a package that stays, cannot do without it.</summary>
    Essential,
    /// <summary>The removal costs something that nobody accepted.</summary>
    CostsNotAccepted,
    /// <summary>The target can only be read.</summary>
    ReadOnly,
    /// <summary>The volume is encrypted.</summary>
    Encrypted,
    /// <summary>A registry hive was not flushed when Windows last shut down.</summary>
    NotFlushed,
    /// <summary>Something else is using the target or the vault.</summary>
    InUse,
    /// <summary>Something else changed the target since the preview.</summary>
    ChangedSince,
    /// <summary>An interrupted run comes first.</summary>
    Interrupted,
    /// <summary>A later run has to be undone first.</summary>
    LaterRunFirst,
    /// <summary>The present state is not the one that the run left.</summary>
    Conflict,
    /// <summary>The vault, or the image, has lost contents.</summary>
    ContentLost,
    /// <summary>A document of the vault cannot be read.</summary>
    VaultDamaged,
    /// <summary>The restore point has to stay.</summary>
    PointStays,
    /// <summary>The restore point belongs to another system.</summary>
    OtherSystem,
    /// <summary>Another version or build is there.</summary>
    OtherVersion,
    /// <summary>There is not enough free space.</summary>
    NoRoom,
    /// <summary>Something could not be recorded completely, so it could not be undone.</summary>
    CannotRecord,
    /// <summary>The mount does not show everything.</summary>
    Withheld,
    /// <summary>The package cannot run on this system.</summary>
    DoesNotFit,
    /// <summary>Another package has to be there first.</summary>
    NeedsOther,
    /// <summary>The package's files cannot be had.</summary>
    NotOffered,
    /// <summary>Where this Windows keeps blocks is not known.</summary>
    BlocksNotKnown,
    /// <summary>A script could not be trusted with it.</summary>
    NotHandedOver,
    /// <summary>A file does not have the expected digest.</summary>
    DigestDiffers,
    /// <summary>The ring before this one is not done.</summary>
    RingNotDone,
}

/// <summary>An error that a person can act on. The message is one or two full sentences: what, where, and what to do next.</summary>
public class MoorfieldException : Exception
{
    /// <summary>Creates an error of one kind.</summary>
    public MoorfieldException(ErrorKind kind, string message, Exception? inner = null) : base(message, inner) =>
        (Kind, Reason) = (kind, (inner as MoorfieldException)?.Reason);

    /// <summary>Creates an error that refuses something for safety.</summary>
    public MoorfieldException(RefusalReason reason, string message, Exception? inner = null) : this(ErrorKind.Refused, message, inner) =>
        Reason = reason;

    /// <summary>Why something was refused; null for other kinds of errors.</summary>
    public RefusalReason? Reason { get; }

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
