using Moorfield.Core.Storage;

namespace Moorfield.Core.Trees;

/// <summary>Keeps contents by their digest.</summary>
internal interface IContentStore
{
    /// <summary>Keeps a file's content and returns the name it is kept under.</summary>
    string Keep(SafeFileHandle file);

    /// <summary>Keeps a content that is handed over in pieces and returns the name it is kept under.</summary>
    string Keep(Action<FileContent.Take> pieces);
}
