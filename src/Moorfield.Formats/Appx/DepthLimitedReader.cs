using System.Xml;

namespace Moorfield.Formats.Appx;

/// <summary>Passes another reader through and refuses to go deeper than a limit: XML of an untrusted disk may nest without end.</summary>
internal sealed class DepthLimitedReader(XmlReader inner, int maxDepth) : XmlReader, IXmlLineInfo
{
    private readonly IXmlLineInfo? _lines = inner as IXmlLineInfo;

    public override bool Read()
    {
        bool more = inner.Read();
        return inner.Depth <= maxDepth ? more : throw new InvalidDataException($"nests deeper than {maxDepth} levels (line {LineNumber})");
    }

    public bool HasLineInfo() => _lines?.HasLineInfo() ?? false;

    public int LineNumber => _lines?.LineNumber ?? 0;

    public int LinePosition => _lines?.LinePosition ?? 0;

    public override int AttributeCount => inner.AttributeCount;
    public override string BaseURI => inner.BaseURI;
    public override int Depth => inner.Depth;
    public override bool EOF => inner.EOF;
    public override bool IsEmptyElement => inner.IsEmptyElement;
    public override string LocalName => inner.LocalName;
    public override XmlNameTable NameTable => inner.NameTable;
    public override string NamespaceURI => inner.NamespaceURI;
    public override XmlNodeType NodeType => inner.NodeType;
    public override string Prefix => inner.Prefix;
    public override ReadState ReadState => inner.ReadState;
    public override string Value => inner.Value;
    public override string GetAttribute(int i) => inner.GetAttribute(i);
    public override string? GetAttribute(string name) => inner.GetAttribute(name);
    public override string? GetAttribute(string name, string? namespaceURI) => inner.GetAttribute(name, namespaceURI);
    public override string? LookupNamespace(string prefix) => inner.LookupNamespace(prefix);
    public override bool MoveToAttribute(string name) => inner.MoveToAttribute(name);
    public override bool MoveToAttribute(string name, string? ns) => inner.MoveToAttribute(name, ns);
    public override bool MoveToElement() => inner.MoveToElement();
    public override bool MoveToFirstAttribute() => inner.MoveToFirstAttribute();
    public override bool MoveToNextAttribute() => inner.MoveToNextAttribute();
    public override bool ReadAttributeValue() => inner.ReadAttributeValue();
    public override void ResolveEntity() => inner.ResolveEntity();

    protected override void Dispose(bool disposing)
    {
        if (disposing)
            inner.Dispose();
        base.Dispose(disposing);
    }
}
