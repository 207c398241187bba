namespace Moorfield.Core.Model;

/// <summary>What a person has in an app: files beyond the layout that the system makes at the first start.</summary>
/// <param name="Bytes">More than 0.</param>
/// <param name="LastChange">Of the file that changed last.</param>
public sealed record PersonalData(string Sid, long Bytes, DateTimeOffset LastChange);
