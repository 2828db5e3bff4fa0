import java.io.*;
import java.net.URI;
import java.nio.file.*;
import java.security.cert.*;
import java.util.*;

/**
 * Judges certificates by Java's own path validator, with revocation lists or OCSP answers from files, or at the
 * address that each certificate names.
 */
public class Revoked {
    public static void main(String[] args) throws Exception {
        String by = args[0];
        CertificateFactory f = CertificateFactory.getInstance("X.509");
        X509Certificate root;
        try (InputStream in = Files.newInputStream(Path.of(args[1]))) {
            root = (X509Certificate) f.generateCertificate(in);
        }
        List<Object> lists = new ArrayList<>();
        Map<X509Certificate, byte[]> answers = new HashMap<>();
        int at = 3;
        if (by.equals("lists")) {
            try (InputStream in = Files.newInputStream(Path.of(args[2]))) {
                lists.addAll(f.generateCRLs(in));
            }
        } else if (by.equals("answers")) {
            for (Path p : Files.newDirectoryStream(Path.of(args[2]), "*.ocsp")) {
                String serial = p.getFileName().toString().split("\\.")[2];
                for (String file : Arrays.copyOfRange(args, at, args.length)) {
                    try (InputStream in = Files.newInputStream(Path.of(file))) {
                        for (Certificate c : f.generateCertificates(in)) {
                            if (((X509Certificate) c).getSerialNumber().equals(new java.math.BigInteger(serial, 16))) {
                                answers.put((X509Certificate) c, Files.readAllBytes(p));
                            }
                        }
                    }
                }
            }
        }
        for (String file : Arrays.copyOfRange(args, at, args.length)) {
            List<X509Certificate> chain = new ArrayList<>();
            try (InputStream in = Files.newInputStream(Path.of(file))) {
                for (Certificate c : f.generateCertificates(in)) {
                    chain.add((X509Certificate) c);
                }
            }
            PKIXParameters q = new PKIXParameters(Set.of(new TrustAnchor(root, null)));
            CertPathValidator v = CertPathValidator.getInstance("PKIX");
            PKIXRevocationChecker r = (PKIXRevocationChecker) v.getRevocationChecker();
            if (by.equals("lists")) {
                r.setOptions(EnumSet.of(PKIXRevocationChecker.Option.PREFER_CRLS, PKIXRevocationChecker.Option.NO_FALLBACK));
                q.addCertStore(CertStore.getInstance("Collection", new CollectionCertStoreParameters(lists)));
            } else if (by.equals("address")) { // that of each certificate; the authority itself has a list
                r.setOptions(EnumSet.of(PKIXRevocationChecker.Option.NO_FALLBACK,
                    PKIXRevocationChecker.Option.ONLY_END_ENTITY));
            } else {
                r.setOptions(EnumSet.of(PKIXRevocationChecker.Option.NO_FALLBACK));
                r.setOcspResponder(URI.create("http://127.0.0.1:9/"));
                r.setOcspResponses(answers);
            }
            q.addCertPathChecker(r);
            String outcome = "good";
            try {
                v.validate(f.generateCertPath(chain), q);
            } catch (CertPathValidatorException e) {
                outcome = e.getReason().toString();
                if (e.getReason() == CertPathValidatorException.BasicReason.REVOKED
                    && e.getCause() instanceof CertificateRevokedException c) {
                    outcome += ":" + c.getRevocationReason();
                }
            }
            System.out.println(outcome);
        }
    }
}
