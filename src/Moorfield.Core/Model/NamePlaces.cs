namespace Moorfield.Core.Model;

/// <summary>Places for accounts' names in a text that many machines share: characters of the private use area of Unicode.</summary>
internal static class NamePlaces
{
    /// <summary>Most accounts that have a place.</summary>
    internal const int Most = 64;

    private const char First = '\uE000';

    internal static char Of(int account) => (char)(First + account);

    internal static bool IsPlace(char character) => character is >= First and < (char)(First + Most);

    /// <summary>The text with names in their places.</summary>
    internal static string Fill(string text, string[] names)
    {
        var filled = new StringBuilder(text.Length);
        foreach (char character in text)
        {
            if (IsPlace(character))
                filled.Append(names[character - First]);
            else
                filled.Append(character);
        }
        return filled.ToString();
    }
}
