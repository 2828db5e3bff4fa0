import java.io.FileInputStream;
import java.io.FileOutputStream;
import java.security.KeyPair;
import java.security.KeyPairGenerator;
import java.security.KeyStore;
import java.security.PrivateKey;
import java.security.cert.CertPathValidator;
import java.security.cert.Certificate;
import java.security.cert.CertificateFactory;
import java.security.cert.PKIXParameters;
import java.security.cert.TrustAnchor;
import java.security.cert.X509Certificate;
import java.util.Base64;
import java.util.List;
import java.util.Set;
import sun.security.pkcs10.PKCS10;
import sun.security.tools.keytool.CertAndKeyGen;
import sun.security.x509.X500Name;

/** A key store that makes its request itself, and takes the answer in: make STORE NAME, or answer STORE FILE ROOT. */
public class OwnStore {
    static final char[] PASSWORD = "tern and gull".toCharArray();

    public static void main(String[] args) throws Exception {
        KeyStore store = KeyStore.getInstance("PKCS12");
        if (args[0].equals("make")) {
            CertAndKeyGen pair = new CertAndKeyGen("EC", "SHA256withECDSA");
            pair.generate(256);
            X500Name name = new X500Name(args[2]);
            store.load(null, null);
            store.setKeyEntry("server", pair.getPrivateKey(), PASSWORD,
                new Certificate[] {pair.getSelfCertificate(name, 90L * 24 * 3600)});
            save(store, args[1]);
            PKCS10 request = new PKCS10(pair.getPublicKey());
            request.encodeAndSign(name, pair.getPrivateKey(), "SHA256withECDSA");
            System.out.println("-----BEGIN NEW CERTIFICATE REQUEST-----");
            System.out.println(Base64.getMimeEncoder().encodeToString(request.getEncoded()));
            System.out.println("-----END NEW CERTIFICATE REQUEST-----");
            return;
        }
        try (FileInputStream in = new FileInputStream(args[1])) {
            store.load(in, PASSWORD);
        }
        CertificateFactory factory = CertificateFactory.getInstance("X.509");
        X509Certificate root;
        try (FileInputStream in = new FileInputStream(args[3])) {
            root = (X509Certificate) factory.generateCertificate(in);
        }
        Certificate[] chain;
        try (FileInputStream in = new FileInputStream(args[2])) {
            chain = factory.generateCertificates(in).toArray(new Certificate[0]);
        }
        if (!chain[0].getPublicKey().equals(store.getCertificate("server").getPublicKey())) {
            System.out.println("another key");
            return;
        }
        List<Certificate> path = List.of(chain).subList(0, chain.length - 1); // without the root
        PKIXParameters by = new PKIXParameters(Set.of(new TrustAnchor(root, null)));
        by.setRevocationEnabled(false);
        CertPathValidator.getInstance("PKIX").validate(factory.generateCertPath(path), by);
        store.setKeyEntry("server", (PrivateKey) store.getKey("server", PASSWORD), PASSWORD, chain);
        save(store, args[1]);
        System.out.println("chain " + store.getCertificateChain("server").length);
    }

    static void save(KeyStore store, String file) throws Exception {
        try (FileOutputStream out = new FileOutputStream(file)) {
            store.store(out, PASSWORD);
        }
    }
}
