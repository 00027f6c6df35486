using System.Text.Json;

namespace Oikonom.Cli;

/// <summary>Tokens by address, in a file only its owner may read.</summary>
public static class Credentials
{
    private sealed record Kept(string Last, Dictionary<string, string> Tokens);

    private static string FilePath =>
        Path.Combine(
            Environment.GetEnvironmentVariable("XDG_CONFIG_HOME") is { Length: > 0 } folder
                ? folder
                : Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".config"),
            "oikonom",
            "credentials.json"
        );

    public static string? LastAddress() => Read()?.Last;

    public static string? Token(string address) => Read()?.Tokens.GetValueOrDefault(address);

    public static void Keep(string address, string token)
    {
        var tokens = Read()?.Tokens ?? [];
        tokens[address] = token;
        Write(new(address, tokens));
    }

    public static void Forget(string address)
    {
        if (Read() is not { } kept || !kept.Tokens.Remove(address))
            return;
        Write(kept);
    }

    private static Kept? Read()
    {
        try
        {
            return File.Exists(FilePath) ? JsonSerializer.Deserialize<Kept>(File.ReadAllText(FilePath)) : null;
        }
        catch (Exception error) when (error is JsonException or IOException or UnauthorizedAccessException)
        {
            throw new CliFault(Exit.Usage, $"{FilePath} cannot be read: {error.Message} Remove it and sign in again.");
        }
    }

    private static void Write(Kept kept)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(FilePath)!);
        var options = new FileStreamOptions { Mode = FileMode.Create, Access = FileAccess.Write };
        if (!OperatingSystem.IsWindows())
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        using var stream = new FileStream(FilePath, options);
        JsonSerializer.Serialize(stream, kept);
    }
}
