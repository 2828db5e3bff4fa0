import java.security.KeyPair;
import java.security.KeyPairGenerator;
import java.util.Base64;
import sun.security.pkcs.PKCS9Attribute;
import sun.security.pkcs10.PKCS10;
import sun.security.pkcs10.PKCS10Attribute;
import sun.security.pkcs10.PKCS10Attributes;
import sun.security.x509.CertificateExtensions;
import sun.security.x509.DNSName;
import sun.security.x509.GeneralName;
import sun.security.x509.GeneralNames;
import sun.security.x509.SubjectAlternativeNameExtension;
import sun.security.x509.X500Name;

/** Makes a request through the runtime's own classes: algorithm, size, signature, subject, names. */
public class MakeRequest {
    public static void main(String[] args) throws Exception {
        KeyPairGenerator generator = KeyPairGenerator.getInstance(args[0]);
        generator.initialize(Integer.parseInt(args[1]));
        KeyPair pair = generator.generateKeyPair();
        GeneralNames names = new GeneralNames();
        for (int i = 4; i < args.length; i++) {
            names.add(new GeneralName(new DNSName(args[i])));
        }
        CertificateExtensions extensions = new CertificateExtensions();
        extensions.set("names", new SubjectAlternativeNameExtension(names));
        PKCS10Attributes attributes = new PKCS10Attributes(new PKCS10Attribute[] {
            new PKCS10Attribute(PKCS9Attribute.EXTENSION_REQUEST_OID, extensions)});
        PKCS10 request = new PKCS10(pair.getPublic(), attributes);
        request.encodeAndSign(new X500Name(args[3]), pair.getPrivate(), args[2]);
        System.out.println("-----BEGIN NEW CERTIFICATE REQUEST-----");
        System.out.println(Base64.getMimeEncoder().encodeToString(request.getEncoded()));
        System.out.println("-----END NEW CERTIFICATE REQUEST-----");
    }
}
