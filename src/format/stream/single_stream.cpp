#include "format/stream/single_stream.h"

#include "base/error.h"
#include "base/text.h"
#include "codec/codec.h"
#include "format/stream/member_writer.h"

namespace operculum {
namespace {

class SingleContainer final : public Container {
 public:
  SingleContainer(const Input& input, SingleStream stream, std::string name)
      : content_(input.content), stream_(std::move(stream)) {
    Entry& entry = entries_[0];
    entry.path = std::move(name);
    entry.size = stream_.size.value_or(Entry::kUnknownSize);
    if (SourcePtr source = content_->source()) entry.stored_size = source->size();
    entry.modified = stream_.modified;
    entry.method = stream_.codec;
    if (!stream_.comment.empty()) entry.extras().comment = stream_.comment;
  }

  std::span<const Entry> entries() override { return entries_; }

  ContentPtr content(std::size_t) override {
    auto self = std::static_pointer_cast<SingleContainer>(shared_from_this());
    struct Unpacked final : Content {
      explicit Unpacked(std::shared_ptr<SingleContainer> owner) : container(std::move(owner)) {}
      StreamPtr stream() const override { return container->open(); }
      SourcePtr source() const override { return container->stream_.random; }
      std::shared_ptr<SingleContainer> container;
    };
    return std::make_shared<Unpacked>(std::move(self));
  }

  std::optional<PackedRun> packed_alone(std::size_t) override {
    SourcePtr bytes = content_->source();
    if (!bytes || stream_.data_at > 0 || !stream_.properties.empty()) return std::nullopt;
    return PackedRun{stream_.codec, bytes, std::nullopt, std::nullopt};
  }

  Facts facts() override { return stream_.facts; }

  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    SourcePtr packed = random_access(*content_, writing.spool);
    Assembly out;
    if (changes.empty()) {
      out.add(packed);
      return out;
    }
    if (!stream_.properties.empty()) throw Unsupported("writing of headers of their own kind");
    if (!changes.removed.empty() || !changes.added.empty() || !changes.renamed.empty())
      throw Unsupported("adding, removing and renaming in a file that holds a single stream");
    const NewEntry& entry = changes.replaced.at(0);
    MemberWriter writer(packed, stream_, entries_[0].path, writing);
    writer.write(*entry.content, entry.size, out);
    return out;
  }

 private:
  StreamPtr open() {
    CodecOptions options{.properties = stream_.properties, .unpacked_size = stream_.size, .note = {}};
    options.note = [this](const std::string& text) { add_finding(Finding::Level::note, text); };
    StreamPtr packed = content_->stream();
    packed->skip(stream_.data_at);
    return make_checked(open_decoder(stream_.codec, std::move(packed), options),
                        {stream_.size, std::nullopt});
  }

  ContentPtr content_;
  SingleStream stream_;
  Entry entries_[1];
};

/// The name of the unpacked bytes: the file's without its ending.
std::string unpacked_name(const std::string& name,
                          const std::vector<std::pair<std::string_view, std::string_view>>& renamed) {
  std::string lower = to_lower(name);
  for (const auto& [ending, becomes] : renamed) {
    if (lower.size() > ending.size() && lower.ends_with(ending)) {
      return name.substr(0, name.size() - ending.size()) + std::string(becomes);
    }
  }
  return name.empty() ? "content" : name;
}

}  // namespace

ContainerPtr make_single_stream(const Input& input, SingleStream stream,
                                const std::vector<std::pair<std::string_view, std::string_view>>& renamed) {
  std::string name(base_name(stream.name));
  if (name.empty() || name == "/" || name == "." || name == "..") name = unpacked_name(input.name, renamed);
  return std::make_shared<SingleContainer>(input, std::move(stream), std::move(name));
}

Trial try_decoding(std::string_view codec, Probe& probe, std::size_t wanted) {
  ByteView head = probe.head(Probe::kReach);
  Bytes out(wanted);
  try {
    StreamPtr stream =
        open_decoder(codec, make_source_stream(make_memory_source(Bytes(head.begin(), head.end()))));
    return read_fully(*stream, out) > 0 || head.size() < Probe::kReach ? Trial::decodes : Trial::too_short;
  } catch (const CutShort&) {
    return Trial::too_short;
  } catch (const Unsupported&) {
    return Trial::decodes;
  } catch (const LimitExceeded&) {
    return Trial::decodes;
  } catch (const std::exception&) {
    return Trial::fails;
  }
}

}  // namespace operculum
