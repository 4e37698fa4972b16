namespace Vembar.Windows.Servicing.Drivers;

/// <summary>What a driver package's signature is worth.</summary>
public enum SignatureState
{
    /// <summary>Signed by somebody who is trusted, and every file is as it was signed.</summary>
    Signed,
    /// <summary>Nobody signed it.</summary>
    Unsigned,
    /// <summary>A file is not what was signed, or is not listed.</summary>
    WrongHash,
    /// <summary>The list itself is not what was signed.</summary>
    BadSignature,
    /// <summary>The signer's certificate had run out, and no time-stamp shows that it signed before.</summary>
    Expired,
    /// <summary>The signer's certificate leads to none that is trusted.</summary>
    Untrusted,
    /// <summary>The catalog cannot be read.</summary>
    BadCatalog,
}
