namespace Moorfield.Core.Model;

/// <summary>A person's data in an app: files beyond the layout that the system makes at the first start.</summary>
/// <param name="Bytes">More than 0.</param>
/// <param name="LastChange">Of the file that changed last.</param>
public sealed record PersonalData(string Sid, long Bytes, DateTimeOffset LastChange);
