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
import java.util.Date;
import java.util.List;
import java.util.Set;
import sun.security.pkcs10.PKCS10;
import sun.security.x509.AlgorithmId;
import sun.security.x509.CertificateAlgorithmId;
import sun.security.x509.CertificateSerialNumber;
import sun.security.x509.CertificateValidity;
import sun.security.x509.CertificateVersion;
import sun.security.x509.CertificateX509Key;
import sun.security.x509.X500Name;
import sun.security.x509.X509CertImpl;
import sun.security.x509.X509CertInfo;

/** A key store that makes its request itself, and takes the answer in: make STORE NAME, or answer STORE FILE ROOT. */
public class OwnStore {
    static final char[] PASSWORD = "tern and gull".toCharArray();

    /** The certificate that a store holds beside its key until the answer comes. */
    static Certificate itself(X500Name name, KeyPair pair) throws Exception {
        Date from = new Date();
        X509CertInfo info = new X509CertInfo();
        info.set(X509CertInfo.VERSION, new CertificateVersion(CertificateVersion.V3));
        info.set(X509CertInfo.SERIAL_NUMBER, new CertificateSerialNumber(1));
        info.set(X509CertInfo.VALIDITY, new CertificateValidity(from, new Date(from.getTime() + 90L * 24 * 3600 * 1000)));
        info.set(X509CertInfo.ALGORITHM_ID, new CertificateAlgorithmId(AlgorithmId.get("SHA256withECDSA")));
        info.set(X509CertInfo.SUBJECT, name);
        info.set(X509CertInfo.ISSUER, name);
        info.set(X509CertInfo.KEY, new CertificateX509Key(pair.getPublic()));
        X509CertImpl out = new X509CertImpl(info);
        out.sign(pair.getPrivate(), "SHA256withECDSA");
        return out;
    }

    public static void main(String[] args) throws Exception {
        KeyStore store = KeyStore.getInstance("PKCS12");
        if (args[0].equals("make")) {
            KeyPairGenerator maker = KeyPairGenerator.getInstance("EC");
            maker.initialize(256);
            KeyPair pair = maker.generateKeyPair();
            X500Name name = new X500Name(args[2]);
            store.load(null, null);
            store.setKeyEntry("server", pair.getPrivate(), PASSWORD,
                new Certificate[] {itself(name, pair)});
            save(store, args[1]);
            PKCS10 request = new PKCS10(pair.getPublic());
            request.encodeAndSign(name, pair.getPrivate(), "SHA256withECDSA");
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
