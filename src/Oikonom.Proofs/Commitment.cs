using System.Buffers;
using System.Security.Cryptography;
using System.Text;

namespace Oikonom.Proofs;

/// <summary>
/// Binds an entry to a value without holding it: SHA-256(salt ‖ value), with a random salt of 128 bits for each. While
/// value and salt are there anyone can check them; when they are forgotten, nothing of the value can be found again,
/// and the entry that holds the commitment still verifies.
/// </summary>
public static class Commitment
{
    public const int SaltBytes = 16;
    private const int OnStack = 1024;

    /// <returns>A new salt, and the commitment in lower-case hexadecimal.</returns>
    public static (string Salt, string Hash) To(string value)
    {
        Span<byte> salt = stackalloc byte[SaltBytes];
        RandomNumberGenerator.Fill(salt);
        return (Convert.ToHexStringLower(salt), Of(salt, value));
    }

    /// <summary>True when the value, with its salt, is what was committed to.</summary>
    public static bool Holds(string salt, string value, string hash)
    {
        try
        {
            return Of(Convert.FromHexString(salt), value) == hash;
        }
        catch (FormatException)
        {
            return false;
        }
    }

    private static string Of(ReadOnlySpan<byte> salt, string value)
    {
        var size = salt.Length + Encoding.UTF8.GetMaxByteCount(value.Length);
        var rented = size > OnStack ? ArrayPool<byte>.Shared.Rent(size) : null;
        var bytes = rented ?? stackalloc byte[OnStack];
        salt.CopyTo(bytes);
        var length = salt.Length + Encoding.UTF8.GetBytes(value, bytes[salt.Length..]);
        Span<byte> hash = stackalloc byte[SHA256.HashSizeInBytes];
        SHA256.HashData(bytes[..length], hash);
        if (rented is not null)
            ArrayPool<byte>.Shared.Return(rented, clearArray: true);
        return Convert.ToHexStringLower(hash);
    }
}
