namespace Oikonom.Service.Common;

/// <summary>The one paging shape: a limit, and an opaque cursor.</summary>
internal static class Paging
{
    public static int Limit(int? limit) =>
        limit switch
        {
            null => 50,
            >= 1 and <= 500 => limit.Value,
            _ => throw Problem.Invalid("'limit' is from 1 to 500.", "limit"),
        };

    public static string Text(string? text) =>
        text is null ? ""
        : text.Length <= 200 ? text.Trim()
        : throw Problem.Invalid("'text' has 200 characters at most.", "text");
}
