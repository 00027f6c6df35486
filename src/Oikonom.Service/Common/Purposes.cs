namespace Oikonom.Service.Common;

/// <summary>What the key ring protects, each under a purpose of its own.</summary>
public static class Purposes
{
    /// <summary>Mails that wait, with the links in them.</summary>
    public const string Mails = "oikonom.notices.v1";
}
