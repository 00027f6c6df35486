namespace Oikonom.Service.Common;

/// <summary>What changes in an account, in words.</summary>
public static class EffectText
{
    public static string Of(
        string target,
        IEnumerable<(string Name, IReadOnlyList<string> Before, IReadOnlyList<string> After)> attributes
    ) =>
        $"{target}: "
        + string.Join(", ", attributes.Select(a => $"{a.Name} “{string.Join(", ", a.Before)}” → “{string.Join(", ", a.After)}”"));
}
