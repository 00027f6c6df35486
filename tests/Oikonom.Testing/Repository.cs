namespace Oikonom.Testing;

/// <summary>Where the checkout is, found from the folder of the running test.</summary>
public static class Repository
{
    public static string Root { get; } = Find();

    public static string At(params string[] parts) => Path.Combine([Root, .. parts]);

    /// <summary>Whether a file of the demo's rulebook is about applications or the office domain: most tests do without.</summary>
    public static bool IsOfApplications(string path) =>
        Path.GetFileNameWithoutExtension(path) is "records" or "shop" or "mailbox" or "gates" || IsOfOffice(path);

    /// <summary>Whether a file of the demo's rulebook is about its office domain, which needs a domain controller.</summary>
    public static bool IsOfOffice(string path) => Path.GetFileNameWithoutExtension(path) == "office";

    /// <summary>The demo's rulebook: paths within its folder, and texts.</summary>
    public static IReadOnlyList<(string Path, string Text)> RulebookFiles()
    {
        var root = At("demo", "northmere", "rulebook");
        return
        [
            .. System
                .IO.Directory.GetFiles(root, "*.yaml", SearchOption.AllDirectories)
                .Select(f => (System.IO.Path.GetRelativePath(root, f), File.ReadAllText(f))),
        ];
    }

    private static string Find()
    {
        for (var folder = AppContext.BaseDirectory; folder is not null; folder = Path.GetDirectoryName(folder))
            if (File.Exists(Path.Combine(folder, "Oikonom.slnx")))
                return folder;
        throw new InvalidOperationException("The tests run outside the checkout.");
    }
}

/// <summary>A folder of the test's own, removed with it.</summary>
public sealed class ScratchFolder : IDisposable
{
    public ScratchFolder() => System.IO.Directory.CreateDirectory(Path);

    public string Path { get; } =
        System.IO.Path.Combine(System.IO.Path.GetTempPath(), "oikonom-test-" + Guid.NewGuid().ToString("N")[..12]);

    public string At(params string[] parts) => System.IO.Path.Combine([Path, .. parts]);

    public void Dispose()
    {
        try
        {
            System.IO.Directory.Delete(Path, recursive: true);
        }
        catch (IOException)
        {
            // A process that is ending still writes; the system clears the folder.
        }
    }
}
