namespace Moorfield.Core.Storage;

/// <summary>The one place where what a format's reader finds wrong becomes trouble that a person can act on.</summary>
internal static class FormatErrors
{
    /// <summary>Does something with a file whose format may be damaged, or whose library may be missing.</summary>
    /// <param name="what">The beginning of the message: the file, by target and path.</param>
    /// <param name="more">A sentence that follows; null for none.</param>
    /// <exception cref="MoorfieldException">Damaged, or a library is missing.</exception>
    internal static T Wrap<T>(string what, Func<T> use, string? more = null)
    {
        try
        {
            return use();
        }
        catch (InvalidDataException e)
        {
            throw Damaged(what, e, more);
        }
        catch (DllNotFoundException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, e.Message, e);
        }
    }

    /// <summary>The trouble that a damaged file is.</summary>
    internal static MoorfieldException Damaged(string what, InvalidDataException damage, string? more = null) =>
        new(ErrorKind.Failed, $"{what} {damage.Message}.{(more is null ? "" : $" {more}")}", damage);
}
